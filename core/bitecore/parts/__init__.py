"""Things that are not scans: printers and their plates."""
