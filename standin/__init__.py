"""Printers that are not there: processes that behave as one, so that everything up to the finished print can be tried."""
