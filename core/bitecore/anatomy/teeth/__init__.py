"""Teeth and gum of a jaw, and which tooth is which, from the shape."""
