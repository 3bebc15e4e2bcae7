"""Where every crown stands: side by side with contact points, and erupted until it meets the other jaw.

Frames: a jaw is built teeth up (+x patient's left, +y back, +z to the tips); the upper is then turned over (z to -z) into
the bench frame of the pair.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from skimage.measure import marching_cubes

from . import teeth
from .plan import ArchPlan, Build

# Neighbours press into each other by this much: what a scanner makes of a contact point.
CONTACT_MM = 0.06
# The tips of the upper reach this far past those of the lower where the cusps interlock.
INTERLOCK_MM = 2.3
CLEAR_MM = 0.03
# The tooth before which the row ends.
_LAST = {"": 8, "mixed": 7, "all": 6}


@dataclass(frozen=True)
class Place:
    """origin_mm : centre of the neck; axes : (3, 3) rows mesio-distal, to the cheek, to the tip."""

    fdi: int
    crown: teeth.Crown
    origin_mm: NDArray[np.float64]
    axes: NDArray[np.float64]
    missing: bool = False

    def to_crown(self, points: NDArray) -> NDArray:
        return (points - self.origin_mm) @ self.axes.T

    def to_jaw(self, points: NDArray) -> NDArray:
        return points @ self.axes + self.origin_mm

    def signed(self, points: NDArray) -> NDArray:
        p = self.to_crown(points)
        return teeth.signed(self.crown, p[:, 0], p[:, 1], p[:, 2])

    @property
    def edges_mm(self) -> NDArray[np.float64]:
        return self.to_jaw(teeth.edge_points(self.crown))

    def raised(self, mm: float) -> Place:
        return replace(self, origin_mm=self.origin_mm + [0, 0, mm])


@lru_cache(maxsize=256)
def _skin(crown: teeth.Crown) -> NDArray[np.float64]:
    """(k, 3) points all over the crown above its neck, in its own frame."""
    step = 0.45
    x = np.arange(-7.0, 7.0, step)
    z = np.arange(0.5, crown.height_mm + 1.5, step)
    u, v, w = np.meshgrid(x, x, z, indexing="ij")
    points, _, _, _ = marching_cubes(teeth.signed(crown, u, v, w), 0.0)
    return points * step + [x[0], x[0], z[0]]


def arch_curve(build: Build, *, upper: bool, wide: float) -> NDArray[np.float64]:
    """(k, 2) x, y of the line through the crown centres of the left half and beyond, front to back."""
    y = np.linspace(0, 1, 4000) ** 2 * 72.0
    half, deep = (26.6 if upper else build.lower_mm) * wide * build.wide, 50.0 * build.deep
    x = half * np.sqrt(1 - np.abs(1 - np.clip(y / deep, 0, 1)) ** build.power) + 0.02 * np.clip(y - 30, 0, None)
    return np.c_[x, y]


def spee_mm(y: NDArray | float) -> NDArray | float:
    """How far the tips of the lower lie under the plane through incisors and last molars, y mm behind the incisors:
    an arc of the four-inch sphere of classic texts (radius 101.6 mm; Monson, from memory) over 46 mm."""
    y = np.clip(np.asarray(y, float), 0, 46.0)
    return (y * (46.0 - y)) / (2 * 101.6) * 0.5


def placed(plan: ArchPlan, *, upper: bool, rng: np.random.Generator) -> list[Place]:
    """All teeth of one jaw, teeth up, before they meet the other; missing ones are there, marked."""
    wide = rng.normal(1.0, 0.02)
    build = plan.build
    curve = arch_curve(build, upper=upper, wide=wide)
    run = np.r_[0, np.cumsum(np.linalg.norm(np.diff(curve, axis=0), axis=1))]
    size = rng.normal(1.0, 0.02)
    # Left and right are alike; a stream of its own, so that what all plans share stays as it is.
    widths = np.random.default_rng([plan.seed, upper]).normal(1.0, build.widths, 8)
    out: list[Place] = []
    for side in (1, -1):
        before: Place | None = None
        at = 0.0
        for number in range(1, _LAST[plan.milk] + plan.third * (not plan.milk)):
            milk = plan.milk == "all" or (plan.milk == "mixed" and 3 <= number <= 5)
            fdi = ((1 if side < 0 else 2) if upper else (4 if side < 0 else 3)) * 10 + number + 40 * milk
            wear = float(np.clip(rng.normal(plan.wear_mm, 0.1), 0, 1.2))
            scale = size * widths[number - 1] * rng.normal(1.0, 0.012)
            c = teeth.crown(number, upper=upper, scale=scale, wear_mm=wear, tall=build.tall, lingual_mm=build.lingual_mm, milk=milk)
            bend = _bend(plan, number, upper, rng)
            at, before = _beside(c, fdi, side, at, before, curve, run, bend, upper, build.spee)
            out.append(replace(before, missing=fdi in plan.gaps))
    return out


@dataclass(frozen=True)
class _Bend:
    lean: float
    turn: float
    out: float
    tip: float


def _bend(plan: ArchPlan, number: int, upper: bool, rng: np.random.Generator) -> _Bend:
    """Inclination and the small irregularities of one tooth."""
    lean = {1: 15, 2: 12, 3: 5}.get(number, plan.build.upper_deg if upper else plan.build.lower_deg) * (1.0 if upper or number > 3 else 0.8)
    front = number < 4
    turn = rng.normal(0, 1.5 + 9 * plan.crowding * front)
    push = rng.normal(0, 0.10 + 1.0 * plan.crowding * front)
    return _Bend(np.radians(lean + rng.normal(0, 1.2)), np.radians(turn), float(np.clip(push, -1.3, 1.3)), rng.normal(0, 0.07))


def _beside(c, fdi, side, at, before, curve, run, bend, upper, spee) -> tuple[float, Place]:
    """Slide the crown along the arch until it touches its neighbour (the first: the midline)."""
    lo, hi = at + 0.30 * c.md_mm, at + 1.3 * c.md_mm + 2.5
    for _ in range(15):
        middle = (lo + hi) / 2
        place = _stand(c, fdi, side, middle, curve, run, bend, upper, spee)
        skin = place.to_jaw(_skin(c))
        free = (skin[:, 0] * side).min() + CONTACT_MM / 2 if before is None else before.signed(skin).min() + CONTACT_MM
        lo, hi = (lo, middle) if free > 0 else (middle, hi)
    return hi, _stand(c, fdi, side, hi, curve, run, bend, upper, spee)


def _stand(c, fdi, side, s, curve, run, bend, upper, spee) -> Place:
    x, y = np.interp(s, run, curve[:, 0]), np.interp(s, run, curve[:, 1])
    # A chord as long as the crown, not the tangent: the front teeth stand on a round.
    ends = [np.array([np.interp(s + d, run, curve[:, 0]), np.interp(s + d, run, curve[:, 1])]) for d in (-c.md_mm / 3, c.md_mm / 3)]
    along = (ends[1] - ends[0]) * [side, 1]
    u = np.r_[along / np.linalg.norm(along), 0.0]
    cheek = np.array([u[1], -u[0], 0.0]) * side
    u, cheek = u * np.cos(bend.turn) + cheek * np.sin(bend.turn), cheek * np.cos(bend.turn) - u * np.sin(bend.turn)
    w = np.array([0.0, 0.0, np.cos(bend.lean)]) + cheek * np.sin(bend.lean)
    v = cheek * np.cos(bend.lean) - np.array([0.0, 0.0, np.sin(bend.lean)])
    dip = spee * float(spee_mm(y))
    tip = (dip if upper else -dip) + bend.tip + ({1: 0.9, 2: 0.4, 3: 0.8}.get(c.number, 0.0) if upper else 0.0)
    # The line of the arch runs through the crowns half way up, so that inclined teeth touch there.
    origin = np.array([x * side, y, tip]) - w * c.height_mm - np.r_[w[:2] * -0.55 * c.height_mm, 0.0] + cheek * bend.out
    return Place(fdi, c, origin, np.stack([u, v, w]))


def over(plan: ArchPlan, upper: list[Place], lower: list[Place]) -> NDArray[np.float64]:
    """4x4 from the upper's own frame (teeth up) to the bench of the lower: turned over, with overjet and overbite."""

    def edge(places: list[Place]) -> NDArray:
        return np.mean([p.edges_mm[0] for p in places if p.crown.number == 1], axis=0)

    out = np.diag([1.0, 1.0, -1.0, 1.0])
    up, low = edge(upper), edge(lower)
    out[1, 3] = low[1] - plan.overjet_mm - up[1]
    front_mm = up[2] - np.mean([p.edges_mm[:, 2].max() for p in upper if p.crown.number > 5])
    out[2, 3] = -INTERLOCK_MM + 0.35 * (plan.overbite_mm - INTERLOCK_MM - front_mm)
    return out


def met(upper: list[Place], lower: list[Place], flip: NDArray) -> tuple[list[Place], list[Place]]:
    """Both jaws with the lower teeth, one by one, raised or lowered until they just touch the upper: teeth erupt until
    they meet."""
    stand = [p for p in upper if not p.missing]
    back = np.linalg.inv(flip)
    moved = []
    for p in lower:
        skin = p.to_jaw(_skin(p.crown))
        near = [q for q in stand if np.linalg.norm((flip @ np.r_[q.edges_mm.mean(0), 1])[:2] - p.edges_mm.mean(0)[:2]) < 14]
        moved.append(p.raised(_rise(skin, near, back)) if near else p)
    return upper, moved


def _rise(skin: NDArray, near: list[Place], back: NDArray) -> float:
    lo, hi = -2.6, 2.0

    def free(rise: float) -> float:
        points = (skin + [0, 0, rise]) @ back[:3, :3].T + back[:3, 3]
        return min(q.signed(points).min() for q in near) - CLEAR_MM

    if free(hi) > 0:
        return 0.0
    for _ in range(13):
        middle = (lo + hi) / 2
        lo, hi = (middle, hi) if free(middle) > 0 else (lo, middle)
    return lo
