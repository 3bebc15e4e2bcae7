"""Plane shapes as grids of cells."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw


def filled(points: NDArray[np.float64], faces: NDArray[np.int64], cell: float) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """(which cells a flat triangulated shape covers, the middle of cell 0, 0). points : (n, 2) mm; two empty cells around."""
    low = points.min(0) - 2 * cell
    count = np.ceil((points.max(0) - low) / cell).astype(int) + 3
    image = Image.new("1", (int(count[1]), int(count[0])))
    draw = ImageDraw.Draw(image)
    corner = ((points - low) / cell)[faces][:, :, ::-1]
    for triangle in corner:
        draw.polygon([(float(x), float(y)) for x, y in triangle], fill=1)
    return np.asarray(image).copy(), low
