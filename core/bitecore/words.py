"""Figures and words in sentences."""

from __future__ import annotations


def to_um(mm: float) -> str:
    """How exactly something is held: 'about 12 µm', and never nought."""
    return f"about {1000 * mm:.0f} µm" if mm >= 0.001 else "less than 1 µm"


def capital(words: str) -> str:
    """As a sentence begins."""
    return words[:1].upper() + words[1:]
