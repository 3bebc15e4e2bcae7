"""Crown shapes as signed functions: sizes from a published table, form from cusps, edges and a neck.

Sizes (mesio-distal, bucco-lingual, crown height in mm) after the averages in Nelson and Ash, Wheeler's Dental
Anatomy, Physiology and Occlusion; from memory.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

UPPER = (
    (8.5, 7.0, 10.5), (6.5, 6.0, 9.0), (7.5, 8.0, 10.0), (7.0, 9.0, 8.5), (7.0, 9.0, 8.5), (10.0, 11.0, 7.5),
    (9.0, 11.0, 7.0), (8.5, 10.0, 6.5),
)  # fmt: skip
LOWER = (
    (5.0, 6.0, 9.0), (5.5, 6.5, 9.5), (7.0, 7.5, 11.0), (7.0, 7.5, 8.5), (7.0, 8.0, 8.0), (11.0, 10.5, 7.5),
    (10.5, 10.0, 7.0), (10.0, 9.5, 7.0),
)  # fmt: skip


# Milk teeth from the midline, and as which of the others each is formed.
MILK_UPPER = ((6.5, 5.0, 6.0), (5.1, 4.0, 5.6), (7.0, 7.0, 6.5), (7.3, 8.5, 5.1), (8.2, 10.0, 5.7))
MILK_LOWER = ((4.2, 4.0, 5.0), (4.1, 4.0, 5.2), (5.0, 4.8, 6.0), (7.7, 7.0, 6.0), (9.9, 8.7, 5.5))
_FORMED = (1, 2, 3, 7, 6)


@dataclass(frozen=True)
class Crown:
    """One crown in its own frame: u mesio-distal (+u distal), v towards the cheek, w to the tip, neck at w = 0."""

    number: int  # 1 central incisor … 8 third molar
    upper: bool
    md_mm: float
    bl_mm: float
    height_mm: float
    # (u, v, height below the tip level) of each cusp or edge point, in mm
    cusps: tuple[tuple[float, float, float], ...]


def crown(
    number: int, *, upper: bool, scale: float = 1.0, wear_mm: float = 0.0, tall: float = 1.0, lingual_mm: float = 0.0, milk: bool = False
) -> Crown:  # fmt: skip
    """lingual_mm : how much lower the lower's inner cusps are than usual; the upper's are so much higher. Of a milk tooth the number is
    that of the tooth it is formed as."""
    table = (MILK_UPPER if upper else MILK_LOWER) if milk else UPPER if upper else LOWER
    md, bl, height = (np.array(table[number - 1]) * scale).tolist()
    number = _FORMED[number - 1] if milk else number
    inner = -lingual_mm if upper else lingual_mm
    cusps = tuple((u, v, below + inner if v < 0 else below) for u, v, below in _cusps(number, upper, md, bl, wear_mm))
    return Crown(number, upper, md, bl, height * tall, cusps)


def ground(whole: Crown) -> Crown:
    """Prepared for a full crown: 1.1 mm off its sides and 1.5 mm off its top (usual; common practice, no source)."""
    md, bl = whole.md_mm - 2.2, whole.bl_mm - 2.2
    cusps = tuple((u * md / whole.md_mm, v * bl / whole.bl_mm, below) for u, v, below in whole.cusps)
    return Crown(whole.number, whole.upper, md, bl, whole.height_mm - 1.5, cusps)


def _cusps(number: int, upper: bool, md: float, bl: float, wear: float) -> tuple[tuple[float, float, float], ...]:
    a, b = md / 2, bl / 2
    if number == 4 or (number == 5 and upper):
        lingual = 0.9 if upper else 2.2
        return ((0.0, 0.50 * b, wear), (0.0, -0.46 * b, lingual))
    if number == 5:
        return ((0.0, 0.50 * b, wear), (-0.34 * a, -0.48 * b, 0.8), (0.42 * a, -0.46 * b, 1.2))
    if upper:
        cusps = ((-0.46 * a, 0.50 * b, wear), (0.44 * a, 0.48 * b, 0.3 + wear), (-0.36 * a, -0.44 * b, 0.2))
        return (*cusps, (0.52 * a, -0.46 * b, 0.9 if number == 6 else 1.3))
    cusps = ((-0.52 * a, 0.52 * b, wear), (-0.50 * a, -0.50 * b, 0.2), (0.36 * a, -0.50 * b, 0.3))
    if number == 6:
        return (*cusps, (0.10 * a, 0.54 * b, 0.25 + wear), (0.66 * a, 0.28 * b, 0.7 + wear))
    return (*cusps, (0.46 * a, 0.50 * b, 0.3 + wear))


def edge_points(c: Crown) -> NDArray[np.float64]:
    """(k, 3) cusp tips, or the middle of the edge, in the crown's frame."""
    if c.number > 3:
        return np.array([(u, v, c.height_mm - below) for u, v, below in c.cusps])
    v = c.bl_mm * (0.40 + 0.10 * np.sin(np.pi)) - 0.13 * c.bl_mm - (0.55 if c.number < 3 else 0.95)
    return np.array([(0.0, v, c.height_mm)])


def smooth_max(p: NDArray, q: NDArray, k: float) -> NDArray:
    h = np.clip(0.5 + 0.5 * (p - q) / k, 0.0, 1.0)
    return q + (p - q) * h + k * h * (1.0 - h)


def signed(c: Crown, u: NDArray, v: NDArray, w: NDArray) -> NDArray[np.float64]:
    """About the distance in mm from the crown's surface, negative inside; the root goes on below the neck."""
    return _front(c, u, v, w) if c.number <= 3 else _back(c, u, v, w)


def _ring(u: NDArray, v: NDArray, a: NDArray, b: NDArray, power: float) -> NDArray:
    """Rounded-box cross section, scaled so that it is close to a distance near its line."""
    radius = (np.abs(u / a) ** power + np.abs(v / b) ** power) ** (1 / power)
    return (radius - 1.0) * np.minimum(a, b)


def _bulge(t: NDArray, neck: float, top: float) -> NDArray:
    """Width along the height: neck, widest at two fifths, top; below the neck slowly narrower."""
    up = 1.0 - (1.0 - top) * np.clip((t - 0.4) / 0.6, 0, 1) ** 2
    down = 1.0 - (1.0 - neck) * np.clip((0.4 - t) / 0.4, 0, 2) ** 1.6
    return np.where(t > 0.4, up, np.maximum(down, 0.35))


def _back(c: Crown, u: NDArray, v: NDArray, w: NDArray) -> NDArray:
    t = w / c.height_mm
    a, b = c.md_mm / 2 * _bulge(t, 0.80, 0.90), c.bl_mm / 2 * _bulge(t, 0.86, 0.74)
    side = _ring(u, v - 0.25 * np.clip(0.4 - t, -0.6, 0.4), a, b, 3.0 if c.number >= 6 else 2.5)
    steep = 0.92 if c.number >= 6 else 0.85
    top = np.full(np.broadcast(u, v).shape, -1e9)
    for cu, cv, below in c.cusps:
        # A rounded cone for each cusp; where two meet lies the fissure.
        bend = 0.12 * np.sin(2.3 * u + 1.7 * v)
        cone = c.height_mm - below - steep * (np.sqrt((u - cu) ** 2 + (v - cv) ** 2 + 0.55**2) - 0.55) + bend * 0.25
        top = smooth_max(top, cone, 0.10)
    # Marginal ridges close the table mesially and distally.
    for sign in (-1, 1):
        ridge = c.height_mm - 1.35 - 2.2 * np.abs(np.abs(u) - 0.80 * c.md_mm / 2) - 0.12 * v**2 / c.bl_mm * 4
        top = smooth_max(top, np.where(u * sign > 0, ridge, -1e9), 0.25)
    return smooth_max(side, (w - top) * 0.75, 0.9)


def _front(c: Crown, u: NDArray, v: NDArray, w: NDArray) -> NDArray:
    t = w / c.height_mm
    neck = 0.72 if c.number == 1 else 0.74
    a = c.md_mm / 2 * _bulge(t, neck, 0.97 if c.number < 3 else 0.80)
    edge = 0.55 if c.number < 3 else 0.95
    reach = np.clip(t, -0.6, 1.05)
    # The cheek side is gently convex; the tongue side sweeps from the cingulum up to the edge.
    cheek = c.bl_mm * (0.40 + 0.10 * np.sin(np.pi * np.clip(reach + 0.15, 0, 1))) - 0.13 * c.bl_mm * np.clip(reach, 0, 2)
    thick = edge * 2 + (c.bl_mm * 0.82 - edge * 2) * (1 - np.clip(reach, 0, 1)) ** 1.55
    hollow = 0.35 * np.exp(-(((t - 0.62) / 0.2) ** 2)) * np.exp(-((u / (0.30 * c.md_mm)) ** 2))
    thick = thick - hollow
    side = _ring(u, v - (cheek - thick / 2), a, thick / 2, 2.6)
    lobes = 0.10 * np.cos(2 * np.pi * u / (c.md_mm * 0.36)) if c.number < 3 else 0.0
    peak = c.height_mm + lobes - (0.05 * u**2 if c.number < 3 else 0.52 * (np.sqrt(u**2 + 0.4**2) - 0.4) + 0.30 * np.clip(u, 0, 9))
    return smooth_max(side, (w - peak) * 0.85, 0.55)
