"""Starting Bite Bench: only Python's own library is needed here."""
