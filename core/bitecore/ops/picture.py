"""A small still picture of bodies: z-buffer, plaster shading. For trays and proof sheets, not for the stage."""

from __future__ import annotations

import io
from collections.abc import Sequence

import numba as nb
import numpy as np
from numpy.typing import ArrayLike, NDArray
from PIL import Image

from ..mesh import Mesh
from .crease import Creased, creased, of_walls
from .relief import plaster_shade

PLASTER = np.array([0.94, 0.905, 0.83])


@nb.njit(cache=True)
def _raster(screen, colour, faces, depth, image):
    height, width = depth.shape
    for f in range(len(faces)):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, bx, by, cx, cy = screen[a, 0], screen[a, 1], screen[b, 0], screen[b, 1], screen[c, 0], screen[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        for y in range(max(int(np.ceil(min(ay, by, cy))), 0), min(int(max(ay, by, cy)), height - 1) + 1):
            for x in range(max(int(np.ceil(min(ax, bx, cx))), 0), min(int(max(ax, bx, cx)), width - 1) + 1):
                u = ((cx - bx) * (y - by) - (cy - by) * (x - bx)) / area
                v = ((ax - cx) * (y - cy) - (ay - cy) * (x - cx)) / area
                w = 1.0 - u - v
                if u < 0 or v < 0 or w < 0:
                    continue
                z = u * screen[a, 2] + v * screen[b, 2] + w * screen[c, 2]
                if z > depth[y, x]:
                    depth[y, x] = z
                    for k in range(3):
                        image[y, x, k] = u * colour[a, k] + v * colour[b, k] + w * colour[c, k]


def view_rotation(*, turn_deg: float, tilt_deg: float) -> NDArray[np.float64]:
    """(3, 3) rows right, up, towards the eye in bench axes; turn 0 looks from the front (-y), tilt from above."""
    t, e = np.radians(turn_deg), np.radians(tilt_deg)
    eye = np.array([np.sin(t) * np.cos(e), -np.cos(t) * np.cos(e), np.sin(e)])
    right = np.array([np.cos(t), np.sin(t), 0.0])
    return np.stack([right, np.cross(eye, right), eye])


def picture(
    bodies: Sequence[tuple[Mesh, ArrayLike]],
    *,
    size_px: tuple[int, int] = (624, 300),
    turn_deg: float = 24.0,
    tilt_deg: float = 22.0,
) -> bytes:
    """PNG with a clear ground of (mesh, 4x4 home to bench) pairs, filling the frame."""
    view = view_rotation(turn_deg=turn_deg, tilt_deg=tilt_deg)
    over = 2
    width, height = size_px[0] * over, size_px[1] * over
    placed = [mesh.moved(m) for mesh, m in bodies]
    seen = [m.vertices_mm @ view.T for m in placed]
    everything = np.vstack(seen)
    low, high = everything.min(0), everything.max(0)
    scale = min(width * 0.92 / (high[0] - low[0]), height * 0.90 / (high[1] - low[1]))
    centre = (low + high) / 2
    depth, image = np.full((height, width), -np.inf), np.zeros((height, width, 3))
    for mesh, p in zip(placed, seen, strict=True):
        split = creased(mesh)
        screen = ((p - centre) * scale * [1, -1, 1] + [width / 2, height / 2, 0])[split.source]
        _raster(screen, _lit(mesh, split, view), split.faces, depth, image)
    alpha = np.isfinite(depth)
    rgba = np.dstack([np.clip(image, 0, 1) * 255, alpha * 255.0]).astype(np.uint8)
    small = Image.fromarray(rgba).resize(size_px, Image.Resampling.BOX)
    out = io.BytesIO()
    small.save(out, "PNG", optimize=False)
    return out.getvalue()


def turntable(mesh: Mesh, matrix: ArrayLike, *, frames: int = 16, size_px: tuple[int, int] = (76, 58)) -> bytes:
    """PNG strip of so many views side by side, once around the upright axis: to be turned by a style sheet."""
    placed = mesh.moved(matrix)
    split, over = creased(placed), 2
    width, height = size_px[0] * over, size_px[1] * over
    low, high = placed.vertices_mm.min(0), placed.vertices_mm.max(0)
    centre = (low + high) / 2
    off = placed.vertices_mm - centre
    # One scale for all views, so that it turns and does not breathe.
    wide = max(np.hypot(off[:, 0], off[:, 1]).max(), 1e-6)
    tall = max(np.abs(off[:, 2]).max() + 0.34 * wide, 1e-6)
    scale = 0.49 * min(width / wide, height / tall)
    strip = np.zeros((height, width * frames, 4), np.uint8)
    for k in range(frames):
        view = view_rotation(turn_deg=360.0 * k / frames + 24.0, tilt_deg=20.0)
        depth, image = np.full((height, width), -np.inf), np.zeros((height, width, 3))
        screen = (off @ view.T * scale * [1, -1, 1] + [width / 2, height / 2, 0])[split.source]
        _raster(screen, _lit(placed, split, view, shaded=False), split.faces, depth, image)
        alpha = np.isfinite(depth)
        strip[:, k * width : (k + 1) * width] = np.dstack([np.clip(image, 0, 1) * 255, alpha * 255.0]).astype(np.uint8)
    small = Image.fromarray(strip).resize((size_px[0] * frames, size_px[1]), Image.Resampling.BOX)
    out = io.BytesIO()
    small.save(out, "PNG", optimize=False)
    return out.getvalue()


def _lit(mesh: Mesh, split: Creased, view: NDArray, *, shaded: bool = True) -> NDArray:
    """(k, 3) colour of each split vertex: a warm key light, a cool fill from below, darkened fissures."""
    normal = split.normals @ view.T
    normal = np.where(normal[:, 2:] < 0, -normal, normal)
    key = np.clip(normal @ (np.array([-0.45, 0.65, 0.62]) / 1.005), 0, 1)[:, None]
    fill = np.clip(normal @ np.array([0.7, -0.3, 0.65]), 0, 1)[:, None]
    # At the size of a tile fissures are a smear.
    shade = plaster_shade(mesh)[split.source] if shaded else np.ones(len(split.source))
    shade[split.faces[of_walls(mesh)].ravel()] = 1.0
    light = 0.36 + key * np.array([0.52, 0.50, 0.47]) + fill * np.array([0.15, 0.17, 0.21]) + 0.14 * normal[:, 2:]
    return PLASTER * light * shade[:, None]
