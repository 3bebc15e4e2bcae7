"""How large teeth are on average (mm), by position 1 to 8 from the midline. Widths and crown heights as in Wheeler's Dental Anatomy
and Ash and Nelson's editions of it, from memory; what stands within 2 mm of the top is a judgement on those. Arch widths after
Moyers and others, Standards of Human Occlusal Development (1976), adults, from memory and rounded."""

from __future__ import annotations

# Mesiodistal.
WIDE = {
    "upper": (8.5, 6.6, 7.6, 7.1, 6.8, 10.2, 9.5, 8.6),
    "lower": (5.2, 5.7, 6.9, 7.0, 7.1, 11.1, 10.5, 10.0),
}  # fmt: skip
# From the neck to the tip.
TALL = {
    "upper": (10.5, 9.2, 10.0, 8.5, 8.3, 7.5, 7.0, 6.5),
    "lower": (8.9, 9.3, 10.6, 8.6, 8.1, 7.6, 7.1, 7.0),
}  # fmt: skip
# From cheek to tongue.
DEEP = {
    "upper": (7.0, 6.0, 8.0, 9.1, 9.0, 11.2, 11.0, 10.0),
    "lower": (6.0, 6.3, 7.6, 7.6, 8.1, 10.4, 10.1, 9.5),
}  # fmt: skip
# From cheek to tongue, 2 mm under the top: an edge, a point or a table.
TABLE = {
    "upper": (3.0, 2.9, 3.6, 6.6, 6.6, 8.6, 8.4, 7.8),
    "lower": (2.8, 2.9, 3.6, 4.6, 6.0, 8.2, 8.0, 7.6),
}  # fmt: skip
# Milk teeth, 1 to 5.
MILK_WIDE = {"upper": (6.5, 5.1, 7.0, 7.3, 8.2), "lower": (4.2, 4.1, 5.0, 7.7, 9.9)}
MILK_TALL = {"upper": (6.0, 5.6, 6.5, 5.1, 5.7), "lower": (5.0, 5.2, 6.0, 6.0, 5.5)}
MILK_DEEP = {"upper": (5.0, 4.0, 7.0, 8.5, 10.0), "lower": (4.0, 4.0, 4.8, 7.0, 8.7)}
MILK_TABLE = {"upper": (2.6, 2.5, 3.2, 5.6, 7.0), "lower": (2.4, 2.4, 2.8, 4.8, 6.6)}
# Between the tips of the canines, and between the cusps at the front of the cheek side of the first molars.
ARCH = {"upper": (34.0, 52.0), "lower": (26.0, 46.0)}
# From the patient's right to the left.
SLOTS = (8, 7, 6, 5, 4, 3, 2, 1, 1, 2, 3, 4, 5, 6, 7, 8)


def fdi_of(slot: int, jaw: str, *, milk: bool = False) -> int:
    """ISO 3950 number of a slot."""
    right, left = (1, 2) if jaw == "upper" else (4, 3)
    return (right if slot < 8 else left) * 10 + SLOTS[slot] + (40 if milk else 0)


def slot_of(fdi: int) -> tuple[int, bool]:
    """(slot, milk tooth?) of an ISO 3950 number."""
    milk = fdi > 50
    quadrant, place = divmod(fdi - 40 if milk else fdi, 10)
    return (8 - place if quadrant in (1, 4) else 7 + place), milk


def size_of(fdi: int, jaw: str) -> tuple[float, float, float]:
    """(usual width along the arch, crown height, width across), mm."""
    milk, place = fdi > 50, fdi % 10 - 1
    wide, tall, deep = (MILK_WIDE, MILK_TALL, MILK_DEEP) if milk else (WIDE, TALL, DEEP)
    return wide[jaw][place], tall[jaw][place], deep[jaw][place]
