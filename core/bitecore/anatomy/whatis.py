"""What a scan is, which jaw, and which way it faces: from its shape alone.

Facts used (common practice, no source): a jaw scan is open towards the gum and its border lies on that side; an arch is
a horseshoe, nearly its own mirror image, closed in front; a model is closed and stands on a flat floor, a denture is
closed and has none; a die is small, closed and longer than wide; a bite scan is a narrow open strip, or a
band that goes round both jaws; an impression is
the negative of a jaw within the wall of a tray; a scan body ends in a small flat disc that stands above its
surroundings.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..errors import StepFailed
from ..mesh import Mesh, area_mm2, edge_table, face_components, face_normals, used_vertices, vector_area_mm2
from ..mesh.measures import face_areas_mm2
from ..ops.border import border_points
from ..ops.mend import largest_piece
from ..ops.rigid import unit
from .jawshape import area_samples, mirror_axis
from .occlusal import frame_basis, mirrored, occlusal_frame
from .part_arch import Part, parts_of
from .scanbodies import discs
from .whichjaw import tell, tell_part

# Nothing from a mouth is larger than this in any direction (common practice, no source).
_LARGEST_MM = 300.0
_SAMPLES = 12_000
# What the tips and edges say of up and front is believed when it is this near to what the whole shape says.
_FINER_DEG = 25.0
# Of a band around both jaws, as of mounted models, the border lies above as much as below; of a jaw only below (mm between
# the middles of surface and border; generated arches have 6 and more, but less than 1 under a high palate). Neither end of a
# band stands so far off its borders as the teeth of a jaw do.
_BAND_MM, _OFF_BORDER_MM = 2.2, 3.5
# The cosine between where all of a surface faces and its thinnest direction: 0.67 to 0.73 of bands, 0.82 to 0.98 of parts of uppers.
_ALL_ACROSS = 0.8
# So nearly its own mirror image, and so deep, an arch is whole without a second look.
_MIRROR, _DEPTH_MM = 0.93, 30.0
# Across its length a part of an arch bulges like a ridge between two walls; a strip of a bite is notched where the jaws meet (see
# _bulge): 0.35 to 0.73 and -0.31 to -0.10 on those of three generators, whether they see the cheeks alone or chewing surfaces too.
_BULGES = 0.12
# No part of an arch that is worked on is shorter.
_LEAST_PART_MM = 24.0
_SLAB_MM = 3.0
# What counts as the uttermost.
_TOP_MM = 3.0


@dataclass(frozen=True)
class Shape:
    """What a scan shows: its kind and its jaw (upper, lower or None), each with how sure that is.

    up      : (3,) where the teeth point
    front   : (3,) to the lips
    incisal : (3,) mm, where the midline meets the occlusal plane, where it was found
    part    : of a part of an arch, where it belongs; None of a whole one
    """

    kind: str
    kind_confidence: float
    jaw: str | None
    confidence: float
    up: NDArray[np.float64]
    front: NDArray[np.float64]
    inside_out: bool
    symmetry: float
    incisal: NDArray[np.float64] | None = None
    part: Part | None = None


def recognise(mesh: Mesh, *, side: str | None = None, named: str | None = None) -> Shape:
    """What one mesh (mm) is. Never raises: a shape that fits nothing is 'other'. side : right, left or front, the patient's, of a part of
    an arch, and named : upper or lower, where a person said so."""
    if np.ptp(mesh.vertices_mm, axis=0).max() > _LARGEST_MM:
        return Shape("other", 0.9, None, 0.9, np.array([0.0, 0.0, 1.0]), np.array([0.0, -1.0, 0.0]), False, 0.0)
    main = largest_piece(mesh)
    points = area_samples(main, _SAMPLES)
    closed = not bool((edge_table(main).count == 1).any())
    floor = _floor(main) if closed else None
    up, lift = (-floor.normal, 10.0) if floor and floor.share > 0.06 else _axis(main, points)
    arch = _arch(points, up)
    kind, sure = _kind(mesh, main, points, arch, floor, closed=closed, lift=lift)
    inside_out = _inside_out(main, up, lift, closed)
    shape = Shape(kind, sure, None, sure, up, arch.front, inside_out, arch.symmetry)
    if kind not in ("jaw", "closed", "impression", "desk", "denture"):
        return shape
    if kind == "jaw" and (side or not _whole(arch)):
        # A cut through a palate is a border high up: where the borders say little, a surface is taken to face outwards.
        inside_out = inside_out and lift > _BAND_MM
        parts = parts_of(points, unit(vector_area_mm2(main)) * (-1 if inside_out else 1))
        if not parts[0].whole:
            known = [_as_part(replace(shape, inside_out=inside_out), main, points, part) for part in (parts if side else parts[:1])]
            return _of_side(known, side, named)
        if parts[0].front @ shape.front < np.cos(np.radians(_FINER_DEG)):
            shape = replace(shape, up=parts[0].up, front=parts[0].front)
    return _with_jaw(shape, main, arch.covered)


def _whole(arch: _Arch) -> bool:
    """Plainly: its own mirror image, closed in front, and deep."""
    depth = np.ptp(np.quantile(arch.local[arch.tips, 1], [0.02, 0.98]))
    return bool(arch.symmetry > _MIRROR and arch.closed > 0.5 and depth > _DEPTH_MM)


def _as_part(shape: Shape, mesh: Mesh, points: NDArray, part: Part) -> Shape:
    """Which jaw, of what is taken to go on as its mirror image on the other side."""
    basis = frame_basis(part.up, part.front)
    tips, even = (mirrored(p, part.incisal, basis[0]) if part.one_sided else p for p in (part.tips, points))
    local, tips, even = ((p - part.incisal) @ basis.T for p in (mesh.vertices_mm[used_vertices(mesh)], tips, even))
    told = tell_part(local, tips, _covered(even[:, :2], even[:, 2] > np.quantile(even[:, 2], 0.997) - _DEEPER_MM[0]))
    sure = min(told.confidence, shape.kind_confidence, part.sure)
    return replace(shape, jaw=told.jaw, confidence=sure, up=part.up, front=part.front, incisal=part.incisal, part=part)


def _of_side(known: list[Shape], side: str | None, named: str | None) -> Shape:
    """The likeliest that lies where a person said it does, else the likeliest."""
    there = (s for s in known if side and s.part and s.part.is_of(side, named or s.jaw or "upper"))
    found = next(there, None)
    return replace(found, part=replace(found.part, sure=1.0)) if found and found.part else known[0]


def _inside_out(mesh: Mesh, up: NDArray, lift: float, closed: bool) -> bool:
    if closed:
        a, b, c = (mesh.vertices_mm[mesh.faces[:, k]] - mesh.vertices_mm.mean(0) for k in range(3))
        return bool(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() < 0)
    return bool(vector_area_mm2(mesh) @ up < 0) if lift > 0.5 else False


def _axis(mesh: Mesh, points: NDArray) -> tuple[NDArray, float]:
    """(3,) where the teeth point, and how clearly (mm between surface and border along it)."""
    spread = np.linalg.svd(points - points.mean(0), full_matrices=False)[2]
    normal = spread[2]
    vector = vector_area_mm2(mesh)
    if np.linalg.norm(vector) > 0.25 * area_mm2(mesh):
        # The open side's normal is steadier than the spread where the jaw is tall.
        mean = normal * np.sign(normal @ vector or 1.0) + vector / np.linalg.norm(vector)
        normal = mean / np.linalg.norm(mean)
    border = border_points(mesh, step_mm=0.5)
    lift = float((points.mean(0) - border.mean(0)) @ normal) if len(border) else 0.0
    if abs(lift) < _BAND_MM:
        # Under a high palate the surface lies about as high as its border. Then the teeth are on the side whose uttermost is wider:
        # all round the arch, where the palate is uttermost only in its middle.
        lift = abs(lift) if _wide_at_top(points, normal) >= _wide_at_top(points, -normal) else -abs(lift)
    return normal * (1.0 if lift >= 0 else -1.0), abs(lift)


def _wide_at_top(points: NDArray, up: NDArray) -> float:
    """How large the plan (mm², of a box round it) of all that lies within _TOP_MM of the top is."""
    height = points @ up
    plan = points @ np.linalg.svd(up[None])[2][1:].T
    return float(np.prod(np.ptp(plan[height > np.quantile(height, 0.999) - _TOP_MM], axis=0)))


def _between_borders(mesh: Mesh, points: NDArray, across: NDArray) -> bool:
    """Across its plane: is it a band with borders on both sides, as a scan of a bite is? A jaw's teeth stand off every border, and a
    jaw faces across its plane more than along it."""
    if abs(unit(vector_area_mm2(mesh)) @ across) > _ALL_ACROSS:
        return False
    border, height = border_points(mesh, step_mm=0.5) @ across, points @ across
    over = np.quantile(height, 0.999) - np.quantile(border, 0.9)
    under = np.quantile(border, 0.1) - np.quantile(height, 0.001)
    return bool(max(over, under) < _OFF_BORDER_MM)


@dataclass(frozen=True)
class _Floor:
    normal: NDArray[np.float64]
    share: float  # of the whole surface


def _floor(mesh: Mesh) -> _Floor:
    """The largest plane of a closed body."""
    area = face_areas_mm2(mesh)
    normal = face_normals(mesh)
    bins, weight = np.unique(np.rint(normal * 12).astype(int), axis=0, return_inverse=True)[0:2]
    heaviest = np.bincount(weight.ravel(), area, len(bins)).argsort()[::-1][:12]
    best = _Floor(np.array([0.0, 0.0, -1.0]), 0.0)
    middle = mesh.vertices_mm[mesh.faces].mean(1)
    for k in heaviest:
        mine = weight.ravel() == k
        mean = (normal[mine] * area[mine, None]).sum(0)
        mean /= np.linalg.norm(mean)
        flat = normal @ mean > 0.9995
        if not flat.any():
            continue
        depth = np.floor(middle[flat] @ mean / 0.3).astype(int)
        heights = np.bincount(depth - depth.min(), area[flat])
        share = float(heights.max() / area.sum())
        if share > best.share:
            best = _Floor(mean, share)
    return best


# How far under the highest tips the others are sought, until the front of the arch is among them (mm).
_DEEPER_MM = (6.5, 9.0, 12.0, 16.0)


@dataclass(frozen=True)
class _Arch:
    """Seen from above the tips: local (n, 2) x to the side of the mirror line, y to the back."""

    local: NDArray[np.float64]
    height: NDArray[np.float64]
    tips: NDArray[np.bool_]
    front: NDArray[np.float64]
    symmetry: float
    closed: float
    covered: float


def _arch(points: NDArray, up: NDArray) -> _Arch:
    x = np.cross(np.eye(3)[int(np.abs(up).argmin())], up)
    x /= np.linalg.norm(x)
    y = np.cross(up, x)
    plan = points @ np.stack([x, y], axis=1)
    height = points @ up
    tips = height > np.quantile(height, 0.997) - _DEEPER_MM[0]
    angle, offset, symmetry = mirror_axis(plan[tips], np.radians(np.arange(0, 180, 4.0)))
    angle, offset, symmetry = mirror_axis(plan[tips], angle + np.radians(np.arange(-4, 4.5, 1.0)))
    c, s = np.cos(angle), np.sin(angle)
    local = plan @ np.array([[c, s], [-s, c]]) - [offset, 0.0]
    # A scan with a vault lies tilted at first, and its front teeth farther under the tips than the others.
    for deep in _DEEPER_MM:
        sign, closed = _front_side(local[height > np.quantile(height, 0.997) - deep])
        if closed > 0:
            break
    local = local * [1, -sign]
    return _Arch(local, height, tips, (x * s + y * c) * sign, symmetry, closed, _covered(local, tips))


def _front_side(local: NDArray) -> tuple[float, float]:
    """+1 where the front lies towards +y of the mirrored plan; and how much clearer the front end is closed (0..1)."""
    middle = local[np.abs(local[:, 0]) < 5.0]
    low, high = np.quantile(local[:, 1], [0.01, 0.99])
    band = (high - low) * 0.35
    top = int((middle[:, 1] > high - band).sum())
    bottom = int((middle[:, 1] < low + band).sum())
    return (1.0 if top >= bottom else -1.0), abs(top - bottom) / max(top + bottom, 1)


def _covered(local: NDArray, tips: NDArray) -> float:
    """Share of the room between the sides over which there is a surface: palate, or the floor of a model."""
    arch = local[tips]
    front, back = np.quantile(arch[:, 1], [0.01, 0.99])
    depth = back - front
    half = np.quantile(np.abs(arch[:, 0]), 0.9) * 0.38
    lo, hi = front + 0.45 * depth, front + 0.85 * depth
    if half <= 0 or hi <= lo:
        return 0.0
    # Cells of about 2 mm²: a covered one holds several samples.
    cells = np.zeros((12, 12), bool)
    room = (np.abs(local[:, 0]) < half) & (local[:, 1] > lo) & (local[:, 1] < hi)
    inside = local[room]
    i = ((inside[:, 0] + half) / (2 * half) * 12).astype(int).clip(0, 11)
    j = ((inside[:, 1] - lo) / (hi - lo) * 12).astype(int).clip(0, 11)
    cells[i, j] = True
    return float(cells.mean())


def _kind(mesh: Mesh, main: Mesh, points: NDArray, arch: _Arch, floor: _Floor | None, *, closed: bool, lift: float) -> tuple[str, float]:
    spread = np.linalg.svd(points - points.mean(0), full_matrices=False)[2]
    side = np.sort(np.ptp(points @ spread.T, axis=0))[::-1]
    if closed and side[0] > 35 and side[1] > 30:
        if floor is not None and floor.share > 0.06:
            return "closed", 0.95
        return "denture", 0.85 if arch.symmetry > 0.5 else 0.6
    if closed and 8 < side[0] <= 40 and side[1] < 20 and side[0] > 1.15 * side[1]:
        return "die", 0.85
    if 38 <= side[0] <= 110 and side[1] >= 30 and side[2] <= 48 and not closed:
        sure = arch.symmetry > 0.55 and arch.closed > 0.5
        if _walled(mesh, main):
            return "impression", 0.9 if sure else 0.7
        if discs(mesh, points):
            return "desk", 0.9 if sure else 0.7
        if lift < _BAND_MM and _between_borders(main, points, spread[2]):
            return "bite", 0.75
        return ("jaw", 0.97) if sure else ("jaw", 0.7)
    if 14 <= side[0] <= 75 and 7 <= side[1] < 32 and side[2] < 30 and not closed:
        # The jaws of a bite may hang together or be a piece each.
        bulge = _bulge(mesh)
        if bulge > _BULGES and side[0] > _LEAST_PART_MM:
            return "jaw", 0.9 if bulge > _BULGES + 0.15 else 0.7
        return "bite", 0.9 if side[0] > 20 and side[2] < 0.9 * side[1] + 6 else 0.75
    return "other", 0.6


def _bulge(mesh: Mesh) -> float:
    """How far normals across the length of a strip lean away from its middle line (1: all do, -1: all lean towards it), over slabs of
    _SLAB_MM along it, so that a bent one is judged like a straight one."""
    area, normal, middle = face_areas_mm2(mesh), face_normals(mesh), mesh.vertices_mm[mesh.faces].mean(1)
    out = unit(vector_area_mm2(mesh))
    mean = np.average(middle, axis=0, weights=area)
    border = border_points(mesh, step_mm=0.5)
    if len(border) and (mean - border.mean(0)) @ out < 0:
        # Inside out: a strip stands off its border on the side it was seen from.
        normal, out = -normal, -out
    points = area_samples(mesh, _SAMPLES)
    along = np.linalg.svd(points - points.mean(0), full_matrices=False)[2][0]
    along = unit(along - (along @ out) * out)
    across = np.cross(out, along)
    where, slab = middle @ across, np.floor((middle @ along) / _SLAB_MM).astype(int)
    slab -= slab.min()
    first, last = np.full((2, slab.max() + 1), np.inf)
    np.minimum.at(first, slab, where)
    np.minimum.at(last, slab, -where)
    aside = where - ((first - last) / 2)[slab]
    return float((area * aside * (normal @ across)).sum() / (area * np.abs(aside)).sum())


def _walled(mesh: Mesh, main: Mesh) -> bool:
    """Does a wall stand around the arch as high as its tips? Then the arch is a print within a tray."""
    if mesh.triangles == main.triangles:
        rest = None
    else:
        label = face_components(mesh)[1]
        sizes = np.bincount(label, face_areas_mm2(mesh))
        others = np.delete(sizes, sizes.argmax())
        rest = mesh.of_faces(label != sizes.argmax()) if others.max() > 0.08 * sizes.sum() else None
    if rest is None:
        return False
    # A wall of its own: it reaches all around the arch's middle.
    wall = area_samples(rest, 2000)
    middle = main.vertices_mm.mean(0)
    spread = np.linalg.svd(wall - wall.mean(0), full_matrices=False)[2]
    flat = (wall - middle) @ spread[:2].T
    around = np.unique((np.arctan2(flat[:, 1], flat[:, 0]) / (2 * np.pi) * 24).astype(int) % 24)
    return len(around) >= 20


def _with_jaw(shape: Shape, mesh: Mesh, covered: float) -> Shape:
    """Up and front finer by the tips and edges, and which jaw, from the teeth."""
    try:
        frame = occlusal_frame(mesh, up=shape.up, front=shape.front)
    except StepFailed:
        return _by_palate(shape, covered)
    near = np.cos(np.radians(_FINER_DEG))
    if frame.up @ shape.up < near or frame.front @ shape.front < near:
        return _by_palate(shape, covered)
    basis = frame_basis(frame.up, frame.front)
    local = (mesh.vertices_mm[used_vertices(mesh)] - frame.origin_mm) @ basis.T
    # The floor of a model fills the room between the sides of either jaw.
    open_middle = 0.3 if shape.kind in ("closed", "impression") else covered
    told = tell(local, (frame.tips_mm - frame.origin_mm) @ basis.T, open_middle)
    sure = min(told.confidence, shape.kind_confidence)
    return replace(shape, jaw=told.jaw, confidence=sure, up=frame.up, front=frame.front, incisal=frame.origin_mm)


def _by_palate(shape: Shape, covered: float) -> Shape:
    jaw, sure = ("upper", 0.8) if covered > 0.5 else ("lower", 0.6)
    return replace(shape, jaw=jaw, confidence=min(sure, shape.kind_confidence))
