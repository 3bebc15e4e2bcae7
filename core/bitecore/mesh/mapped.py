"""Maps: distances beside a surface, and how the stage gets them, a byte a vertex."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .mesh import Channel, Mesh

# Distances are told apart up to half a millimetre; the colours end at what two scans of one surface may differ by.
REACH_MM, ENDS_MM = 0.504, 0.1
# The byte for nought, and how many steps there are to either end.
NOUGHT, STEPS = 129, 126


def mapped(mesh: Mesh, off_mm: NDArray[np.float64]) -> Mesh:
    """The same surface with distances as its channel. off_mm : (n,), NaN for unknown."""
    return mesh.with_channel("Off the jaw", "mm", REACH_MM, off_mm, ends=ENDS_MM)


def scale_of(channel: Channel) -> dict[str, str | float]:
    """What the stage needs to read the bytes: value = (byte - nought) * step."""
    return {
        "name": channel.name, "unit": channel.unit, "step": channel.reach / STEPS, "nought": NOUGHT, "ends": channel.ends or channel.reach,
    }  # fmt: skip


def coded(channel: Channel, scale: dict[str, str | float]) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """((n,) bytes, cut off at the ends of the scale; (n,) whether it is known)."""
    known = np.isfinite(channel.values)
    steps = np.rint(np.nan_to_num(channel.values) / float(scale["step"]))
    return np.clip(steps + NOUGHT, NOUGHT - STEPS, NOUGHT + STEPS).astype(np.uint8), known
