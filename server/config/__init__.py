"""Settings, addresses and the assembled API."""
