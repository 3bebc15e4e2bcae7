"""Where an open cavity would be no more than a film under a thin land: left out, for it lets no resin through and pulls at the plate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

# Narrower than this (mm, its half) it is the foot of a wall that leans.
_HALF_WIDE_MM = 1.5


def without_shallows(level: NDArray[np.float32], *, cell_mm: float, first: int, least_mm: float) -> NDArray[np.float32]:
    """The same level set, above nought in the room, z its last axis, without what is wide and lower than least_mm over the underside.

    first : the last layer that is not above the underside
    """
    there = level[:, :, first:] > 0
    high = np.where(there.all(2), there.shape[2], there.argmin(2)) * cell_mm
    # Under the underside it goes on downwards.
    low = (level[:, :, : first + 1].max(2) > 0) & (high < least_mm)
    wide = ndimage.binary_opening(low, _disc(_HALF_WIDE_MM / cell_mm))
    if not wide.any():
        return level
    gone = low & ndimage.binary_dilation(wide, _disc(2 * _HALF_WIDE_MM / cell_mm))
    away = ndimage.distance_transform_edt(~gone) - ndimage.distance_transform_edt(gone)
    side = (ndimage.gaussian_filter(away, 1.0) * cell_mm).astype(np.float32)
    out = level.copy()
    until = first + int(np.ceil(least_mm / cell_mm)) + 1
    out[:, :, :until] = np.minimum(out[:, :, :until], side[:, :, None])
    return out


def _disc(radius: float) -> NDArray[np.bool_]:
    reach = np.arange(-int(radius), int(radius) + 1)
    return np.asarray(np.hypot(*np.meshgrid(reach, reach)) <= radius)
