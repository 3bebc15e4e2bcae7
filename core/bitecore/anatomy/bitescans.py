"""The relation of lower to upper from scans of both jaws closed together.

Each bite scan is placed on each jaw without a start, then all of them are settled together: one relation, whatever the
number of scans. What cannot be trusted is refused with the reason: too little met, too large a scatter, or a patch that
leaves a direction free.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh
from ..ops.rigid import laid_on
from ..ops.settle import Link, LinkFit, Settlement, Target, nudged, settle
from ..ops.starts import Candidate, Samples, samples_of
from .arch_starts import Arch, closed_relations, strips_near, strips_on
from .jaw import Jaw
from .occlusal import frame_basis

_STRIP_POINTS, _SEARCHED = 5000, 900
# Of a bite scan at least this share lies on each jaw; it is sure when the shares of the next best placement, multiplied,
# are less than so much of the best one's.
_LEAST_MET, _CLEARLY = 0.18, 0.6
# Two ways to place the lower that have its incisal point so near each other are one.
_SAME_PLACE_MM = 1.5
# What reaches so far to both sides goes all round.
_BOTH_MM = 16.0
# A scatter above this is not one surface scanned twice; an expected error above this is not presented as good
# (measures of the project).
WORST_RMS_MM, WORST_ERROR_MM = 0.08, 0.15


@dataclass(frozen=True)
class Placed:
    """One bite scan.

    to_upper : (4, 4), None where it was not placed
    side     : left, right, front or all round, the patient's
    met      : (upper, lower) share that lies on each
    rms_mm   : (upper, lower) scatter of what is met
    why      : what speaks against it
    marks_mm : how far apart the points of each pair of marks are, once laid on each other
    at_mm    : (3,) in its home, where it lies off most, or its middle
    inside_out : its surface faces inwards; it was taken turned
    """

    piece: str
    to_upper: NDArray[np.float64] | None
    side: str
    met: tuple[float, float]
    rms_mm: tuple[float, float]
    why: str = ""
    marks_mm: tuple[float, ...] = ()
    at_mm: tuple[float, ...] = (0.0, 0.0, 0.0)
    inside_out: bool = False


@dataclass(frozen=True)
class BiteFit:
    """The relation as the bite scans say it.

    lower_to_upper : (4, 4), None where refused, with why
    error_mm       : RMS error to expect at the lower's teeth
    loose          : the direction it is least held in
    disagree_mm    : how far two sides alone would move the lower's teeth apart
    """

    lower_to_upper: NDArray[np.float64] | None
    scans: tuple[Placed, ...]
    rms_mm: float = 0.0
    error_mm: float = float("inf")
    loose: str = ""
    disagree_mm: float | None = None
    why: str = ""
    settled: Settlement | None = None


def fit_bite(upper: Jaw, lower: Jaw, scans: Mapping[str, Mesh], marks: Mapping[str, Sequence[dict]] | None = None) -> BiteFit:
    """From bite scans in any frames, each in mm. marks : {piece: [{bite, jaw, at}]}, points in
    each one's home; three or more on each jaw start that scan from them instead of from a search."""
    strips = {piece: samples_of(mesh, _STRIP_POINTS) for piece, mesh in scans.items()}
    by_hand = {p: found for p in strips if (found := marked(marks.get(p, ()) if marks else ())) is not None}
    starts = {p: m.starts for p, m in by_hand.items()}
    left_out: dict[str, str] = {}
    searched = [p for p in strips if p not in starts]
    chosen_of = _searched({p: strips[p] for p in searched}, upper, lower) if searched else {}
    # Of a strip the shape does not say which side is out; the jaws do.
    lost = {p: strips[p].turned() for p, chosen in chosen_of.items() if isinstance(chosen, _Unsure)}
    turned = {p: chosen for p, chosen in _searched(lost, upper, lower).items() if not isinstance(chosen, _Unsure)} if lost else {}
    strips |= {p: lost[p] for p in turned}
    by_search = chosen_of | turned
    starts |= {p: chosen for p, chosen in by_search.items() if not isinstance(chosen, _Unsure)}
    sure = list(starts.values())
    for p, chosen in by_search.items():
        if isinstance(chosen, _Unsure):
            start = chosen.beside(sure, lower.incisal) or chosen.near(sure, strips[p].thinned(_SEARCHED), (upper.arch(), lower.arch()))
            if start is None:
                left_out[p] = chosen.why
            else:
                starts[p] = start
    if not starts:
        placed = tuple(_left_out(p, why, strips[p]) for p, why in left_out.items())
        return BiteFit(None, placed, why=placed[0].why if placed else "there is no bite scan")
    fit, bad = _without_bad(upper, lower, strips, starts)
    left_out |= bad
    placed_all = (*fit.scans, *(_left_out(p, why, strips[p]) for p, why in left_out.items()))
    told = [replace(s, marks_mm=by_hand[s.piece].apart_mm) if s.piece in by_hand else s for s in placed_all]
    return replace(fit, scans=tuple(replace(s, inside_out=s.piece in turned) for s in told))


@dataclass(frozen=True)
class _Unsure:
    """No start, and why. pairs : starts of which any may be the one, the best first; on : where it may lie on each jaw by itself"""

    why: str
    on: tuple[Sequence[Candidate], Sequence[Candidate]] = ((), ())
    pairs: tuple[tuple[NDArray, NDArray], ...] = ()

    def beside(self, sure: Sequence[tuple[NDArray, NDArray]], incisal: NDArray) -> tuple[NDArray, NDArray] | None:
        """The start that stands as a surer scan has the jaws."""
        for (a, b), (other_a, other_b) in itertools.product(self.pairs, sure):
            if _same(a @ np.linalg.inv(b), other_a @ np.linalg.inv(other_b), incisal):
                return a, b
        return None

    def near(
        self, sure: Sequence[tuple[NDArray, NDArray]], strip: Samples, arches: tuple[Arch, Arch]
    ) -> tuple[NDArray, NDArray] | None:  # fmt: skip
        """The same of a scan that was found on one jaw alone: on the other it is looked for from where a surer scan has it."""
        upper, lower = self.on
        for a, b in sure if upper and lower else ():
            relation = a @ np.linalg.inv(b)
            on_upper = [*upper, *strips_near(strip, arches[0], relation @ np.array([c.matrix for c in lower]))]
            on_lower = [*lower, *strips_near(strip, arches[1], np.linalg.inv(relation) @ np.array([c.matrix for c in upper]))]
            pairs = [
                (u.met * v.met, u.matrix, v.matrix) for u, v in itertools.product(on_upper, on_lower)
                if min(u.met, v.met) > _LEAST_MET and _same(u.matrix @ np.linalg.inv(v.matrix), relation, arches[1].incisal)
            ]  # fmt: skip
            if pairs:
                return max(pairs, key=lambda pair: pair[0])[1:]
        return None


def _same(relation: NDArray, other: NDArray, incisal: NDArray) -> bool:
    off = relation - other
    return bool(np.linalg.norm(off[:3, :3] @ incisal + off[:3, 3]) < _SAME_PLACE_MM)


def _searched(strips: Mapping[str, Samples], upper: Jaw, lower: Jaw) -> dict[str, tuple | _Unsure]:
    """{piece: its two starts, or why there are none}."""
    arches = upper.arch(), lower.arch()
    thin = {p: strip.thinned(_SEARCHED) for p, strip in strips.items()}
    with ThreadPoolExecutor(2) as pool:
        on_jaws = list(pool.map(lambda job: strips_on(*job), itertools.product(thin.values(), arches)))
    return {p: _placed_on(strip, on_jaws[2 * i], on_jaws[2 * i + 1], arches) for i, (p, strip) in enumerate(thin.items())}


def _without_bad(
    upper: Jaw, lower: Jaw, strips: Mapping[str, Samples], starts: Mapping[str, tuple[NDArray, NDArray]]
) -> tuple[BiteFit, dict[str, str]]:  # fmt: skip
    """All scans together; where they are refused, those that hold by themselves, or those of them that agree. With why the others
    were left out."""
    fit = settled_bite(upper, lower, strips, starts)
    if fit.lower_to_upper is not None or len(starts) < 2:
        return fit, {}
    alone = {p: settled_bite(upper, lower, strips, {p: start}) for p, start in starts.items()}
    good = {p: starts[p] for p, one in alone.items() if one.lower_to_upper is not None}
    bad = {p: one.why for p, one in alone.items() if p not in good}
    kept = settled_bite(upper, lower, strips, good) if good and bad else fit
    if kept.lower_to_upper is None and len(good) > 2:
        kept, others = _most_agree(upper, lower, strips, good)
        bad |= others
    if kept.lower_to_upper is not None:
        return kept, bad
    return (fit, {}) if bad else (replace(fit, why="each bite scan fits by itself, but they contradict each other"), {})


def _most_agree(
    upper: Jaw, lower: Jaw, strips: Mapping[str, Samples], starts: Mapping[str, tuple[NDArray, NDArray]]
) -> tuple[BiteFit, dict[str, str]]:  # fmt: skip
    """Scans of more than one bite: those of which most say the same, two at least, and of as many the more closed. With why the
    others were left out; where no two agree, a fit that is refused."""
    groups: list[tuple[list[str], BiteFit]] = []
    for piece in starts:
        for k, (own, _) in enumerate(groups):
            both = settled_bite(upper, lower, strips, {p: starts[p] for p in (*own, piece)})
            if both.lower_to_upper is not None:
                groups[k] = ([*own, piece], both)
                break
        else:
            groups.append(([piece], settled_bite(upper, lower, strips, {piece: starts[piece]})))

    def opened_mm(fit: BiteFit) -> float:
        assert fit.lower_to_upper is not None
        return float(upper.up @ (fit.lower_to_upper[:3, :3] @ lower.incisal + fit.lower_to_upper[:3, 3] - upper.incisal))

    own, kept = min(groups, key=lambda g: (-len(g[0]), opened_mm(g[1])))
    if len(own) < 2:
        return replace(kept, lower_to_upper=None), {}
    assert kept.lower_to_upper is not None
    teeth = np.c_[lower.teeth(), np.ones(len(lower.teeth()))]
    why: dict[str, str] = {}
    for others, fit in groups:
        if others is not own:
            assert fit.lower_to_upper is not None
            apart = float(np.sqrt(np.mean(np.sum((teeth @ (fit.lower_to_upper - kept.lower_to_upper)[:3].T) ** 2, axis=1))))
            why |= dict.fromkeys(others, f"in its bite the lower stands {apart:.2f} mm from where {len(own)} others have it")
    return kept, why


@dataclass(frozen=True)
class Marked:
    """Where a bite scan lies by matched points.

    starts   : (to upper, to lower)
    apart_mm : what is left between the points of each pair, in the order given
    """

    starts: tuple[NDArray[np.float64], NDArray[np.float64]]
    apart_mm: tuple[float, ...]


def marked(marks: Sequence[dict]) -> Marked | None:
    """The placement by marks, None with fewer than three on either jaw."""
    found: dict[str, NDArray[np.float64]] = {}
    apart: dict[int, float] = {}
    for jaw in ("upper", "lower"):
        own = [(i, m) for i, m in enumerate(marks) if m["jaw"] == jaw]
        if len(own) < 3:
            return None
        a, b = np.array([m["bite"] for _, m in own], float), np.array([m["at"] for _, m in own], float)
        found[jaw] = laid_on(a, b)
        left = np.linalg.norm(a @ found[jaw][:3, :3].T + found[jaw][:3, 3] - b, axis=1)
        apart |= {i: float(d) for (i, _), d in zip(own, left, strict=True)}
    return Marked((found["upper"], found["lower"]), tuple(apart[i] for i in range(len(marks))))


def _left_out(piece: str, why: str, strip: Samples) -> Placed:
    middle = strip.points_mm[np.linalg.norm(strip.points_mm - strip.points_mm.mean(0), axis=1).argmin()]
    return Placed(piece, None, "", (0.0, 0.0), (0.0, 0.0), why, at_mm=tuple(middle.tolist()))


def settled_bite(upper: Jaw, lower: Jaw, strips: Mapping[str, Samples], starts: Mapping[str, tuple[NDArray, NDArray]]) -> BiteFit:
    """From starts {piece: (bite to upper, bite to lower)}, as found or as marked by hand."""
    first = next(iter(starts))
    poses = {"upper": np.eye(4), "lower": starts[first][0] @ np.linalg.inv(starts[first][1])}
    poses |= {p: a for p, (a, _) in starts.items()}
    on = {"upper": Target(upper.mesh), "lower": Target(lower.mesh)}
    links = [Link(p, jaw, strips[p], on[jaw]) for p in starts for jaw in ("upper", "lower")]
    # Marks are set by hand and may be a millimetre off.
    done = settle(links, poses, fixed="upper", reach_mm=1.5)
    teeth = lower.teeth() @ done.poses["lower"][:3, :3].T + done.poses["lower"][:3, 3]
    error = float(np.sqrt(np.mean(done.error_mm("lower", teeth) ** 2)))
    scans = [_scan(p, 2 * i, done, upper) for i, p in enumerate(starts)]
    rms = float(np.sqrt(np.mean([r**2 for s in scans for r in s.rms_mm])))
    why = _against(scans, error, _loose(done, teeth, upper))
    return BiteFit(
        None if why else done.poses["lower"], tuple(scans), rms, error, _loose(done, teeth, upper),
        _disagreement(done, links, teeth), why, done,
    )  # fmt: skip


def _placed_on(strip: Samples, on_upper: list[Candidate], on_lower: list[Candidate], arches: tuple[Arch, Arch]) -> tuple | _Unsure:
    chosen = _chosen(on_upper, on_lower, arches)
    if not isinstance(chosen, _Unsure):
        return chosen
    # Found on one jaw alone: looked for on the other from where closed jaws stand.
    closed = closed_relations(*arches)
    if on_upper[0].met >= on_lower[0].met:
        on_lower = [*on_lower, *strips_near(strip, arches[1], np.linalg.inv(closed) @ on_upper[0].matrix)]
    else:
        on_upper = [*on_upper, *strips_near(strip, arches[0], closed @ on_lower[0].matrix)]
    chosen = _chosen(on_upper, on_lower, arches)
    return replace(chosen, on=(on_upper, on_lower)) if isinstance(chosen, _Unsure) else chosen


def _chosen(on_upper: Sequence[Candidate], on_lower: Sequence[Candidate], arches: tuple[Arch, Arch]) -> tuple | _Unsure:
    """(to upper, to lower) of the best pair of placements that brings the jaws face to face, or why there is none."""
    good = sorted(
        ((a.met * b.met, min(a.met, b.met), i, j) for (i, a), (j, b) in itertools.product(enumerate(on_upper), enumerate(on_lower))
         if _face_to_face(a.matrix @ np.linalg.inv(b.matrix), arches)),
        reverse=True,
    )  # fmt: skip
    if not good or good[0][1] < _LEAST_MET:
        return _Unsure("it was not found on both jaws")
    best = on_upper[good[0][2]].matrix, on_lower[good[0][3]].matrix
    relation = best[0] @ np.linalg.inv(best[1])
    for met, _, i, j in good[1:]:
        other = on_upper[i].matrix @ np.linalg.inv(on_lower[j].matrix)
        if met > _CLEARLY * good[0][0] and not _same(other, relation, arches[1].incisal):
            near = (pair for pair in good if pair[0] > _CLEARLY * good[0][0])
            return _Unsure("it would fit in two places", pairs=tuple((on_upper[i].matrix, on_lower[j].matrix) for _, _, i, j in near))
    return best


def _face_to_face(lower_to_upper: NDArray, arches: tuple[Arch, Arch]) -> bool:
    upper, lower = arches
    turn = lower_to_upper[:3, :3]
    apart = lower_to_upper[:3, :3] @ lower.incisal + lower_to_upper[:3, 3] - upper.incisal
    return bool(upper.up @ turn @ lower.up < -0.8 and upper.front @ turn @ lower.front > 0.7 and np.linalg.norm(apart) < 20)


def _scan(piece: str, at: int, done: Settlement, upper: Jaw) -> Placed:
    on_upper, on_lower = done.links[at], done.links[at + 1]
    used = on_upper.point_mm[on_upper.used]
    side = ""
    if len(used):
        across = ((used - upper.incisal) @ frame_basis(upper.up, upper.front).T)[:, 0]
        # Seen from above its own tips, an upper's side axis points to the patient's right.
        middle = -float(across.mean())
        round_ = across.min() < -_BOTH_MM and across.max() > _BOTH_MM
        side = "all round" if round_ else "front" if abs(middle) < 8.0 else "left" if middle > 0 else "right"
    worst = _worst_place((on_upper, on_lower), done.poses[piece])
    return Placed(
        piece, done.poses[piece], side, (on_upper.met, on_lower.met), (on_upper.rms_mm, on_lower.rms_mm), at_mm=worst
    )  # fmt: skip


def _worst_place(fits: Sequence[LinkFit], pose: NDArray) -> tuple[float, ...]:
    """Where, in the scan's home, what should be one surface lies apart most, over some millimetres."""
    points = np.vstack([f.point_mm[f.used] for f in fits])
    if len(points) == 0:
        return (0.0, 0.0, 0.0)
    off = np.abs(np.concatenate([f.residual_mm[f.used] for f in fits]))
    around = cKDTree(points).query(points, k=min(24, len(points)))[1].reshape(len(points), -1)
    worst = points[around[int(off[around].mean(1).argmax())]].mean(0)
    return tuple(float(x) for x in np.linalg.inv(pose)[:3] @ np.append(worst, 1.0))


def _against(scans: Sequence[Placed], error: float, loose: str) -> str:
    worst = max(r for s in scans for r in s.rms_mm)
    least = min(m for s in scans for m in s.met)
    if least < _LEAST_MET / 2:
        return f"only {least:.0%} of a bite scan lies on one of the jaws"
    if worst > WORST_RMS_MM:
        return f"the surfaces differ by {1000 * worst:.0f} µm where they should be the same"
    if error > WORST_ERROR_MM:
        return f"the bite scan does not hold the jaws {loose}: the teeth could be {1000 * error:.0f} µm off"
    return ""


def _loose(done: Settlement, teeth: NDArray, upper: Jaw) -> str:
    """The direction in which the lower's teeth are least held, in words."""
    at = 6 * done.free.index("lower")
    c = done.covariance[at : at + 6, at : at + 6]
    spread = np.zeros((3, 3))
    for x, y, z in teeth[:: max(len(teeth) // 60, 1)]:
        g = np.c_[[[0, z, -y], [-z, 0, x], [y, -x, 0]], np.eye(3)]
        spread += g @ c @ g.T
    axis = frame_basis(upper.up, upper.front) @ np.linalg.eigh(spread)[1][:, 2]
    return ("from side to side", "from front to back", "up and down")[int(np.abs(axis).argmax())]


def _disagreement(done: Settlement, links: Sequence[Link], teeth: NDArray) -> float | None:
    """RMS distance between the lower's teeth as each of two scans alone would have them; to first order."""
    if len(links) != 4:
        return None
    alone = []
    for part in (links[:2], links[2:]):
        poses = {k: done.poses[k] for k in ("upper", "lower", part[0].moving)}
        own = nudged(part, poses, fixed="upper")["lower"] @ np.linalg.inv(done.poses["lower"])
        alone.append(teeth @ own[:3, :3].T + own[:3, 3])
    return float(np.sqrt(np.mean(((alone[0] - alone[1]) ** 2).sum(1))))
