"""What is certainly tooth and certainly gum, and what speaks for either in between."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from .evidence import Evidence
from .line import STEP_MM
from .numbering import Slot
from .sizes import size_of

# A border between two teeth is set off between the walls over so much of the arch; beside a gap a tooth may bulge so far.
_HALF_MM, _BULGE_MM = 3.5, 2.0
_FARTHEST_OUT_MM = 14.0


@dataclass
class Crown:
    """One tooth in the plan of its jaw, mm. tall : usual, neck to tip; deep : usual, cheek to tongue; top : its height; middle : how
    far out it stands, half : half of its table; lean : how far out each mm down leads; then what its outline showed: crease (mean,
    1/mm), weak (share of it that shows none), shift (how much lower it lies than expected)"""

    slot: Slot
    tall: float
    deep: float
    top: float
    middle: float
    half: float
    lean: float
    crease: float = 0.0
    weak: float = 1.0
    shift: float | None = None


@dataclass
class Seeds:
    """For each vertex: seed (0 free, k + 1 tooth k, len + 1 gum), prior (-1 gum to 1 tooth), own (the tooth in whose stretch it lies,
    -1 none). hue : what its colour says, -1 gum to 1 tooth, None where colours say nothing; crowns : of each slot, None where nothing of it
    is seen"""

    seed: NDArray[np.int32]
    prior: NDArray[np.float64]
    own: NDArray[np.int64]
    hue: NDArray[np.float64] | None = None
    crowns: list[Crown | None] = field(default_factory=list)

    @property
    def gum(self) -> int:
        return len(self.crowns) + 1


def seeds(local: NDArray, found: Evidence, slots: list[Slot], jaw: str, border: NDArray[np.bool_], scale: float) -> Seeds:
    """scale : how tall crowns are against the usual"""
    n = len(local)
    out = Seeds(np.zeros(n, np.int32), np.zeros(n), np.full(n, -1))
    share, down, beside = np.zeros(n), np.full(n, 99.0), np.full(n, 99.0)
    along, stretches = _Along(found), []
    for k in range(len(slots)):
        within, across = _stretch(along, slots, k)
        stretches.append(within)
        crown = _crown(local[within], found, slots[k], within, across, jaw, scale)
        out.crowns.append(crown)
        if crown is None:
            continue
        out.own[within], share[within] = k, across
        down[within] = crown.top - local[within, 2]
        beside[within] = found.out[within] - crown.middle - crown.lean * np.clip(down[within], 0, 1.2 * crown.tall)
    for k, (crown, within) in enumerate(zip(out.crowns, stretches, strict=True)):
        if crown is not None:
            mine = within[out.own[within] == k]
            _seed(out, k, crown, mine, share[mine], down[mine], beside[mine], border[mine])
    gum = out.gum
    away = (out.own < 0) & (out.seed == 0)
    out.seed[away & ((found.depth > 5.0) | (np.abs(found.out) > 9))] = gum
    out.prior[away] = -1.0
    out.seed[found.along < 0] = gum
    return out


class _Along:
    """The vertices in their order along the arch, so that a stretch of it is asked for without the rest."""

    def __init__(self, found: Evidence) -> None:
        self.found = found
        self.lean = np.clip(found.out / _HALF_MM, -1, 1)
        self._order = np.argsort(found.along, kind="stable")
        self._sorted = found.along[self._order]

    def between(self, low: float, high: float) -> NDArray[np.int64]:
        """(k,) those from low to high mm, in their own order."""
        return np.sort(self._order[np.searchsorted(self._sorted, low) : np.searchsorted(self._sorted, high, side="right")])

    def border(self, step: int, touches: bool, lean: NDArray) -> NDArray[np.float64]:
        """(k,) where a tooth ends, for places that lean out so far."""
        return np.full(len(lean), self.found.grid[step]) + (lean * self.slant(step) if touches else 0.0)

    def slant(self, step: int) -> float:
        return float(self.found.cheek_at[step] - self.found.tongue_at[step]) / 2


def _stretch(along: _Along, slots: list[Slot], k: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """((k,) the vertices between the borders of a tooth, (k,) 0 to 1 from one to the other)."""
    slot, found = slots[k], along.found
    before = k > 0 and slots[k - 1].last == slot.first
    after = k + 1 < len(slots) and slots[k + 1].first == slot.last
    more = 0.0
    if not (before and after):
        ends = (along.border(step, touches, along.lean) for step, touches in ((slot.last, after), (slot.first, before)))
        more = _BULGE_MM / float(np.maximum(next(ends) - next(ends), 1.0).mean())
    slant = abs(along.slant(slot.first)) + abs(along.slant(slot.last))
    room = slant + more * max(float(found.grid[slot.last] - found.grid[slot.first]) + slant, 1.0)
    near = along.between(max(float(found.grid[slot.first]) - room, 0.0), float(found.grid[slot.last]) + room)
    first, last = along.border(slot.first, before, along.lean[near]), along.border(slot.last, after, along.lean[near])
    share = (found.along[near] - first) / np.maximum(last - first, 1.0)
    low, high = (0.0 if before else -more), (1.0 if after else 1 + more)
    within = (share >= low) & (share < high) & (np.abs(found.out[near]) < _FARTHEST_OUT_MM)
    return near[within], share[within]


def _crown(
    local: NDArray, found: Evidence, slot: Slot, within: NDArray, share: NDArray, jaw: str, scale: float
) -> Crown | None:  # fmt: skip
    """local, share : of the vertices within its stretch"""
    _, tall, deep = size_of(slot.fdi, jaw)
    tall *= scale
    z, out = local[:, 2], found.out[within]
    core = (share > 0.2) & (share < 0.8) & (np.abs(out) < 6.5) & (found.depth[within] < 5.5)
    if core.sum() < 20:
        return None
    top = float(np.quantile(z[core], 0.99))
    low, high = np.quantile(out[core & (z > top - 2.2)], [0.03, 0.97])
    middle = float(low + high) / 2
    wall = np.flatnonzero((share > 0.25) & (share < 0.75) & (np.abs(out - middle) < deep * 0.8) & (z < top - 0.6) & (z > top - 0.72 * tall))
    lean = _lean(out[wall], top - z[wall], found.side[within[wall]], middle)
    return Crown(slot, tall, deep, top, middle, float(high - low) / 2, lean)


def _lean(out: NDArray, down: NDArray, side: NDArray, middle: float) -> float:
    """How far out each mm down leads: by the middle between the walls, layer by layer."""
    layer = (down / 0.75).astype(int)
    rows = []
    for q in range(int(layer.max(initial=-1)) + 1):
        cheek, tongue = out[(layer == q) & (side > 0.35)], out[(layer == q) & (side < -0.25)]
        if len(cheek) > 4 and len(tongue) > 4:
            rows.append(((q + 0.5) * 0.75, (np.median(cheek) + np.median(tongue)) / 2 - middle))
    if len(rows) < 3:
        return 0.0
    x, y = np.array(rows).T
    return float(np.clip((x * y).sum() / ((x * x).sum() + 4.0), -0.5, 0.35))


def _seed(
    out: Seeds, k: int, crown: Crown, mine: NDArray, share: NDArray, down: NDArray, beside: NDArray, border: NDArray
) -> None:  # fmt: skip
    """mine : (k,) the vertices of its stretch; the others are of these"""
    wide = (crown.slot.last - crown.slot.first) * STEP_MM
    off = np.clip(np.minimum(share, 1 - share) * wide, 0, 9)
    sure = (off > max(0.9, 0.16 * wide)) & (down < 0.32 * crown.tall) & (np.abs(beside) < crown.half + 0.8)
    out.seed[mine[sure]] = k + 1
    # Between two teeth gum goes higher.
    neck = crown.tall * (0.90 - 0.36 * np.abs(2 * np.clip(share, 0, 1) - 1) ** 2.6)
    out.prior[mine] = np.clip((neck - down) / (0.35 * crown.tall), -1, 1)
    far = (down > 1.30 * crown.tall + 0.8) | (np.abs(beside) > 0.5 * crown.deep + 3.2)
    out.seed[mine[far | (border & (down > 0.95 * crown.tall))]] = out.gum
