"""Colours of a scan, where its file has them at its vertices: PLY (red, green, blue) and OBJ (three numbers after the place)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from . import obj, ply

# Gum is red, teeth are not: a* of CIELAB (CIE 15; constants of sRGB as in IEC 61966-2-1, white D65).
_XYZ = np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750]])
_WHITE = np.array([0.95047, 1.0])


def face_colours(data: bytes, form: str) -> NDArray[np.uint8] | None:
    """(m, 3) red, green, blue of each triangle as it is read, the mean of its corners; None where the file has none. Never raises: a file
    whose surface can be read is not refused for its colours."""
    try:
        if form == "ply":
            return ply.face_colours(data)
        return obj.face_colours(data) if form == "obj" else None
    except (ValueError, KeyError, IndexError, OverflowError, UnicodeDecodeError):
        return None


def redness(rgb: NDArray) -> NDArray[np.float32]:
    """(n,) a* of sRGB colours (n, 3), 0 to 255: about 0 for grey and white, 10 to 30 for gum."""
    s = np.asarray(rgb, float) / 255.0
    linear = np.where(s <= 0.04045, s / 12.92, ((s + 0.055) / 1.055) ** 2.4)
    t = linear @ _XYZ.T / _WHITE
    f = np.where(t > (6 / 29) ** 3, np.cbrt(t), t / (3 * (6 / 29) ** 2) + 4 / 29)
    return (500.0 * (f[:, 0] - f[:, 1])).astype(np.float32)
