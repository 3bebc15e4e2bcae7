"""The proof of a case: what the core knows of it, with who did what and when."""
