"""Bays: printers, and what was sent to them."""
