"""The whole application under faults at random, then a check of every promise it made."""
