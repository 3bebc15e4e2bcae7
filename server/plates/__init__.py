"""Plates with bodies from several cases, each a sheet of its own."""
