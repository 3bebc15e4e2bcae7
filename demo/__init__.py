"""Invented scans and the demo scenario."""
