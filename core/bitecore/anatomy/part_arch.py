"""Where in an arch a scan of a part of it belongs: a side, a front, a quarter.

The form of an arch is laid over the crowns seen from above: the line along their middle bends as in y = deep (|x| / 25 mm)^power, and
crowns are the wider the farther they stand from the midline. Of the places where both fit the best is taken; how much worse the best
one is that faces otherwise tells how sure it is (a logistic of the difference). Form and widths are those of even numbers of the trial's
wide set (docs/trial.md).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares
from scipy.spatial import cKDTree

from ..ops.rigid import unit

# Middles and spreads of the form: how deep (mm, its logarithm) at 25 mm to the side, and how square.
_AT_MM, _DEEP, _POWER = 25.0, (32.0, 0.24), (2.8, 0.7)
# The scatter of crowns across the line (mm): in the middle, per mm along it, at most.
_THIN_MM, _WIDER, _WIDE_MM = 1.4, 0.062, 4.1
# The line is looked at in stretches of this; each with at least so many points counts.
_STRETCH_MM, _LEAST = 3.0, 4
# No second molar stands farther along the line.
_REACH_MM, _STEP_MM = 62.0, 0.5
_TURNS, _PLACES_MM = np.radians(np.arange(0, 360, 8.0)), np.arange(-48, 48.1, 4.0)
_POINTS, _TRIED, _SETTLED = 400, 40, 8
# Facing so far from the best it is another answer; so much worse (mm²) it is none.
_OTHER_RAD, _CLEARLY = np.radians(35.0), 0.25
# Reaching so much farther to one side, it is a part; reaching so far to both, it is none.
_ONE_SIDED_MM, _WHOLE_MM, _FRONT_MM = 13.0, 36.0, 10.0
# Ridges stand so far under the tips, and so near to the line.
_RIDGE_MM, _BESIDE_MM = 13.0, 6.0
# Tips are taken one in each stretch of this; they lie so far off a plane, and their plane leans so much against what was taken.
_TIPS_MM, _NEARLY_MM, _SCATTER_MM, _LEANS, _ROUNDS = 4.0, 1.2, 0.7, float(np.tan(np.radians(2.5))), 3
_OPEN_SIDE = 0.4
# How far under the tips crowns are looked at; of their tips, so far.
_CROWN_MM, _TIP_MM = 6.0, 2.5
# The tips are sought within so much of where the open side says, in steps of this, by a normal distribution as wide as that; cells of
# this size are counted.
_LEAN_DEG, _LEAN_STEP_DEG, _CELL_MM, _LIKELY_DEG = 36.0, 4.0, 1.0, 30.0


@dataclass(frozen=True)
class Seat:
    """In the plan it was given in.

    front  : (2,) to the lips
    middle : (2,) mm, where the midline meets the front of the line
    form   : the line it lies along
    misfit : mm
    sure   : 0 to 1, that it faces so
    """

    front: NDArray[np.float64]
    middle: NDArray[np.float64]
    form: Form
    misfit: float
    sure: float


@dataclass(frozen=True)
class Form:
    """The line along the middle of the crowns, of one form of arch."""

    line: NDArray[np.float64]  # (k, 2) side, back
    along: NDArray[np.float64]  # (k,) mm from the midline
    across: NDArray[np.float64]  # (k, 2) outwards
    tree: cKDTree


def _form(deep: float, power: float) -> Form:
    x = np.linspace(0, 55, 500)
    y = deep * (x / _AT_MM) ** power
    far = np.r_[0.0, np.cumsum(np.hypot(np.diff(x), np.diff(y)))]
    along = np.arange(0, _REACH_MM + _STEP_MM / 2, _STEP_MM)
    half = np.stack([np.interp(along, far, x), np.interp(along, far, y)], axis=1)
    line = np.vstack([half[:0:-1] * [-1, 1], half])
    way = np.gradient(line, axis=0)
    way /= np.linalg.norm(way, axis=1)[:, None]
    return Form(line, np.r_[-along[:0:-1], along], np.stack([way[:, 1], -way[:, 0]], axis=1), cKDTree(line))


def up_by_tips(points: NDArray[np.float64], up: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3,) the direction in which most of a surface, (n, 3) even samples, lies near the farthest: tips and edges stand in a plane.
    up : (3,) of the open side's normal."""
    best = up
    for step, reach in ((_LEAN_STEP_DEG, _LEAN_DEG), (1.0, _LEAN_STEP_DEG)):
        rows = np.linalg.svd(best[None])[2][1:]
        lean = np.tan(np.radians(np.arange(-reach, reach + 0.1, step)))
        ways = np.array([best + a * rows[0] + b * rows[1] for a, b in itertools.product(lean, lean) if np.hypot(a, b) <= lean[-1] + 1e-9])
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        off = np.degrees(np.arccos(np.clip(ways @ up, -1, 1)))
        likely = np.exp(-0.5 * (off / _LIKELY_DEG) ** 2)
        best = ways[int(np.argmax([_cells(points, way) for way in ways] * likely))]
    return best


def _cells(points: NDArray, way: NDArray) -> int:
    """How many cells of the plan are within so much of the farthest."""
    height = points @ way
    near = points[height > np.quantile(height, 0.999) - _TIP_MM]
    plan = np.floor(near @ np.linalg.svd(way[None])[2][1:].T / _CELL_MM).astype(np.int64)
    return len(np.unique(plan @ [1, 10_000]))


def crowns_in_plan(local: NDArray[np.float64]) -> NDArray[np.float64]:
    """(k, 2) of places (side, back, up) what lies near the tips."""
    return local[local[:, 2] > np.quantile(local[:, 2], 0.997) - _CROWN_MM][:, :2]


def seated(plan: NDArray[np.float64]) -> list[Seat]:
    """Of crowns in plan, (n, 2) mm, seen from above their tips in a right-handed frame: the best place, then the best that faces
    otherwise than all before, and so on."""
    points = plan[np.linspace(0, len(plan) - 1, min(_POINTS, len(plan))).astype(int)]
    middle = points.mean(0)
    held = points[np.linalg.norm(points - middle, axis=1).argmin()]
    form = _form(_DEEP[0], _POWER[0])
    starts = []
    for turn, place in itertools.product(_TURNS, _PLACES_MM):
        at = form.line[np.abs(form.along - place).argmin()]
        far = form.tree.query((points[::4] - held) @ _turn(turn) + at)[0]
        starts.append((float(np.mean(np.minimum(far, 12.0) ** 2)), turn, at))
    starts.sort(key=lambda s: s[0])
    laid = [_laid(points, held, turn, at, form) for _, turn, at in starts[:_TRIED]]
    laid.sort(key=lambda s: s[0])
    best = _settled(points, _apart(laid))
    differing: list[tuple[float, NDArray]] = []
    for value, found in best:
        if all(abs(np.angle(np.exp(1j * (found[0] - o[0])))) > _OTHER_RAD for _, o in differing):
            differing.append((value, found))
    worse = differing[1][0] - differing[0][0] if len(differing) > 1 else np.inf
    sure = float(1 / (1 + np.exp(-worse / _CLEARLY)))
    return [_seat(found, value, 1 - sure if k else sure) for k, (value, found) in enumerate(differing)]


def _turn(angle: float) -> NDArray[np.float64]:
    """(2, 2) rows times this are turned so that the front, at this angle from −y, lies towards −y."""
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s], [s, c]])


def _laid(points: NDArray, held: NDArray, turn: float, at: NDArray, form: Form) -> tuple[float, NDArray]:
    """(value, turn, shift, form) after some rounds of nearest points."""
    shift = at - held @ _turn(turn)
    for _ in range(6):
        placed = points @ _turn(turn) + shift
        near = form.line[form.tree.query(placed)[1]]
        a, b = placed - placed.mean(0), near - near.mean(0)
        more = np.arctan2((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum(), (a * b).sum())
        turn = turn - more
        shift = near.mean(0) - points.mean(0) @ _turn(turn)
    found = np.array([turn, *shift, 0.0, 0.0])
    return float((_misfits(found, points, form) ** 2).sum()), found


def _apart(laid: list[tuple[float, NDArray]]) -> list[NDArray]:
    """The best ones that differ."""
    out: list[NDArray] = []
    for _, found in laid:
        same = (abs(np.angle(np.exp(1j * (found[0] - o[0])))) < 0.2 and np.abs(found[1:3] - o[1:3]).max() < 3.0 for o in out)
        if not any(same):
            out.append(found)
    return out[:_SETTLED]


def _settled(points: NDArray, starts: list[NDArray]) -> list[tuple[float, NDArray]]:
    out = []
    for start in starts:
        done = least_squares(_misfits, start, args=(points,), diff_step=1e-3, max_nfev=12)
        out.append((float(2 * done.cost), done.x))
    return sorted(out, key=lambda s: s[0])


def _misfits(found: NDArray, points: NDArray, form: Form | None = None) -> NDArray[np.float64]:
    """Per stretch how far the middle of the crowns lies off the line, and how much wider or narrower they are; then the form's own."""
    own = form or _form(_DEEP[0] * np.exp(_DEEP[1] * found[3]), max(_POWER[0] + _POWER[1] * found[4], 1.6))
    along, across = _beside(points, found, own)
    count = int(2 * _REACH_MM / _STRETCH_MM) + 1
    at = ((along + _REACH_MM) / _STRETCH_MM).astype(int).clip(0, count - 1)
    many = np.bincount(at, minlength=count)
    mean = np.bincount(at, across, count) / np.maximum(many, 1)
    scatter = np.sqrt(np.maximum(np.bincount(at, across**2, count) / np.maximum(many, 1) - mean**2, 0.0))
    middle = (np.arange(count) + 0.5) * _STRETCH_MM - _REACH_MM
    usual = np.minimum(_THIN_MM + _WIDER * np.abs(middle), _WIDE_MM)
    # Each stretch by what lies in it: their number must not change from one step to the next.
    weight = np.sqrt(many / len(points))
    return np.r_[weight * mean, weight * (scatter - usual) * (many >= _LEAST), 0.25 * found[3:]]


def _beside(points: NDArray, found: NDArray, form: Form) -> tuple[NDArray, NDArray]:
    """(along, across) of each point, mm."""
    placed = points @ _turn(found[0]) + found[1:3]
    near = form.tree.query(placed)[1]
    return form.along[near], np.einsum("ij,ij->i", placed - form.line[near], form.across[near])


def _seat(found: NDArray, value: float, sure: float) -> Seat:
    form = _form(_DEEP[0] * np.exp(_DEEP[1] * found[3]), max(_POWER[0] + _POWER[1] * found[4], 1.6))
    back = _turn(found[0]).T
    return Seat(np.array([0.0, -1.0]) @ back, -found[1:3] @ back, form, float(np.sqrt(value)), sure)


@dataclass(frozen=True)
class Part:
    """A scan as a part of an arch, in its own frame (mm).

    incisal : (3,) where the midline meets the plane of the tips
    tips    : (t, 3) cusps and edges on the cheek side
    ends    : mm along the arch from the midline, of what is there: to the one side (minus) and the other
    sure    : 0 to 1, that it faces so
    """

    up: NDArray[np.float64]
    front: NDArray[np.float64]
    incisal: NDArray[np.float64]
    tips: NDArray[np.float64]
    ends: tuple[float, float]
    sure: float

    @property
    def one_sided(self) -> bool:
        return abs(self.ends[0] + self.ends[1]) > _ONE_SIDED_MM

    @property
    def whole(self) -> bool:
        """It reaches back on both sides."""
        return not self.one_sided and min(-self.ends[0], self.ends[1]) > _WHOLE_MM

    def reach_mm(self, jaw: str) -> tuple[float, float]:
        """How far it reaches to the patient's right and left of the midline along the arch; less than nought where it does not reach it."""
        # Seen from above its own tips, an upper's side axis points to the patient's right.
        right, left = (self.ends[1], -self.ends[0]) if jaw == "upper" else (-self.ends[0], self.ends[1])
        return right, left

    def is_of(self, side: str, jaw: str) -> bool:
        """Does it lie on this side (right, left or front) of the patient?"""
        right, left = self.reach_mm(jaw)
        if side == "front":
            return min(right, left) > _FRONT_MM
        return right > left if side == "right" else left > right


def parts_of(points: NDArray[np.float64], open_side: NDArray[np.float64]) -> list[Part]:
    """Of even samples (n, 3) of one surface; open_side : (3,) the normal of its opening, from the border to the tips. The likeliest
    first; each faces otherwise than those before."""
    up = up_by_tips(points, open_side)
    side = np.linalg.svd(up[None])[2][1]
    basis = np.stack([side, np.cross(up, side), up])
    local = points @ basis.T
    # The curve of Spee leans the plane of tips of half an arch; the open side leans with the gum. Between them both err least.
    z = unit(up + _OPEN_SIDE * (open_side - up))
    x = unit(side - z * (side @ z))
    lean = np.stack([x, np.cross(z, x), z])
    return [_part(points, seat, lean) for seat in seated(crowns_in_plan(local))]


def _part(points: NDArray, seat: Seat, basis: NDArray) -> Part:
    rows = np.vstack([np.array([[-seat.front[1], seat.front[0]], -seat.front]) @ basis[:2], basis[2]])
    origin = seat.middle @ basis[:2]
    tips = np.zeros((0, 3))
    for _ in range(_ROUNDS):
        own = (points - origin) @ rows.T
        tips = _tips(own)
        fit = _plane(tips)
        origin = origin + fit[2] * rows[2]
        tips = tips @ rows + origin - fit[2] * rows[2]
        up = unit(rows[2] - fit[0] * rows[0] - fit[1] * rows[1])
        back = unit(rows[1] - up * (rows[1] @ up))
        rows = np.stack([np.cross(back, up), back, up])
    return Part(rows[2], -rows[1], origin, tips, _ends((points - origin) @ rows.T, seat), seat.sure)


def _ends(own: NDArray, seat: Seat) -> tuple[float, float]:
    """How far it reaches with its gum: where teeth are missing at an end the ridge goes on."""
    deep = own[own[:, 2] > -_RIDGE_MM]
    off, on = seat.form.tree.query(deep[:, :2])
    near = off < _BESIDE_MM
    low, high = np.quantile(seat.form.along[on[near] if near.any() else slice(None)], [0.01, 0.99])
    return float(low), float(high)


def _plane(tips: NDArray) -> NDArray[np.float64]:
    """(3,) slopes and height of z = a x + b y + c through tips. The slopes are held as well as a few tips show them: of a short piece
    they do so badly."""
    fit, weight = np.zeros(3), np.ones(len(tips))
    rows = np.c_[tips[:, :2], np.ones(len(tips))]
    held = np.diag([_SCATTER_MM / _LEANS, _SCATTER_MM / _LEANS, 0.0])
    for _ in range(4):
        fit = np.linalg.lstsq(np.vstack([rows * weight[:, None], held]), np.r_[tips[:, 2] * weight, 0, 0, 0], rcond=None)[0]
        weight = 1 / (1 + ((tips[:, 2] - rows @ fit) / (2 * _SCATTER_MM)) ** 2)
    return fit


def _tips(own: NDArray) -> NDArray[np.float64]:
    """(t, 3) of crowns seated with the front towards −y about the origin: cusps and edges on the cheek side, one in each stretch round
    the arch, the outermost of what is nearly as high as the highest there."""
    near = own[own[:, 2] > np.quantile(own[:, 2], 0.997) - _CROWN_MM]
    form = _form(_DEEP[0], _POWER[0])
    on = form.tree.query(near[:, :2])[1]
    at = (form.along[on] / _TIPS_MM + 100).astype(int)
    across = np.einsum("ij,ij->i", near[:, :2] - form.line[on], form.across[on])
    peak = np.full(at.max() + 1, -np.inf)
    np.maximum.at(peak, at, near[:, 2])
    high = np.flatnonzero(near[:, 2] > peak[at] - _NEARLY_MM)
    order = high[np.lexsort((-across[high], at[high]))]
    return near[order[np.r_[True, np.diff(at[order]) != 0]]]
