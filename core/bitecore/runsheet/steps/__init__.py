"""One file, one step. A step never imports another."""
