"""Damaged and forged input, found by coverage-guided mutation (atheris) and from the API's own description (schemathesis)."""
