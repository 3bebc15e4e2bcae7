"""Bite Bench's computation: meshes, anatomy and the run sheet. No interface, server or database in here."""
