"""Teeth and gum of one jaw: from numbers along the arch to a label at every vertex, a margin round every tooth, and what is measured
of it."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ...mesh import Mesh, face_areas_mm2
from ...mesh.topology import border_vertices
from ...ops.curvature import bend, evened_normals
from ...ops.rigid import unit
from ...ops.surface_graph import flooded, surface_graph
from .crowns import tips_of, width_mm
from .cut import EDGE_MM, Creased, brushed, labelled, settled
from .evidence import evidence
from .hand import Hand, heard
from .hues import at_corners, hue
from .line import STEP_MM, ArchLine, levelling
from .margins import Evened, Margin, evened, margin_of
from .numbering import Numbered
from .outline import Outlined, outlined
from .prices import Partly
from .seeds import Crown, Seeds, seeds

# Crowns are taken to be so tall against the usual at first: a ring that begins far off does not come back. Which it is, the crease says,
# and how little of the ring is without.
_STARTS, _WITHOUT = (0.7, 1.0, 1.3), 0.2
# Between kinds of mouths that cost about the same the creases decide: one 1/mm more in the mean weighs so much.
_CREASES = 20.0
# Of a crown whose ring has so little crease the other kind is tried, and taken where it has so much more.
_DOUBTED, _BETTER = 0.2, 0.08
# A tooth at an end or beside a gap, round which no crease runs, is none: the pad behind the last molar.
_NO_CREASE, _ALL_WEAK = 0.13, 0.65
# How the price of the next best reading, and the crease round a tooth, speak for its number and for it being one.
_SURE_AT, _SURE_SOON = 1.2, 0.8
_TOOTH_AT, _TOOTH_SOON = 0.10, 0.05


@dataclass(frozen=True)
class ToothTold:
    """In the frame of the surface, mm.

    confidence : 0 to 1, that it is a tooth and this one; 1 where a person said so
    wide_mm    : from mesial to distal
    tips_mm    : (t, 3) on the cheek side: of a molar two, the mesial first; of an incisor the middle of its edge
    """

    fdi: int
    confidence: float
    by_hand: bool
    centre_mm: NDArray[np.float64]
    wide_mm: float
    tips_mm: NDArray[np.float64]
    margin: Margin


@dataclass(frozen=True)
class Told:
    """tooth    : (n,) FDI number at each vertex, 0 gum
    teeth    : from the patient's right to the left
    scale    : of this mouth's teeth against the average
    gaps_mm  : (FDI on the right of it, on the left of it, mm) of room between teeth that stand next to each other
    unheeded : ids of what a person said that cannot be
    """

    tooth: NDArray[np.int16]
    teeth: list[ToothTold]
    scale: float
    gaps_mm: list[tuple[int, int, float]] = field(default_factory=list)
    unheeded: list[str] = field(default_factory=list)

    def of_faces(self, mesh: Mesh) -> NDArray[np.int16]:
        """(m,) FDI number of each triangle; one between two is gum."""
        corner = self.tooth[mesh.faces]
        same = (corner[:, 0] == corner[:, 1]) & (corner[:, 1] == corner[:, 2])
        return np.where(same, corner[:, 0], 0).astype(np.int16)


def plan_axes(up: ArrayLike, front: ArrayLike, jaw: str) -> NDArray[np.float64]:
    """(3, 3) rows to the patient's right, forward, to the tips. Of an upper a mirrored frame."""
    z = unit(up)
    y = unit(np.asarray(front, float) - z * (np.asarray(front, float) @ z))
    return np.stack([np.cross(y, z if jaw == "lower" else -z), y, z])


def teeth_told(
    mesh: Mesh,
    *,
    jaw: str,
    up: ArrayLike,
    front: ArrayLike,
    midline: ArrayLike,
    hand: Hand | None = None,
    part: Partly | None = None,
    tint: NDArray | None = None,
) -> Told:
    """Of one connected surface in mm, outwards. up, front : (3,) in its frame, within about 15°; midline : (3,) mm, a place near the
    midline of the arch, to some millimetres; part : of an arch only a part is there; tint : (m,) how red each triangle is, where the scan
    has colours."""
    hand, middle = hand or Hand(), np.asarray(midline, float)
    graph = surface_graph(mesh)
    border = border_vertices(mesh)
    area = np.bincount(mesh.faces.ravel(), np.repeat(face_areas_mm2(mesh) / 3, 3), len(border))
    rounds = int(np.clip(round(2 * (EDGE_MM / graph.length.mean()) ** 2), 1, 6))
    normals = evened_normals(mesh, graph, rounds)
    bent = bend(normals, graph)
    axes, local = _levelled(mesh, plan_axes(up, front, jaw), middle, part is not None)
    found = evidence(local, normals @ axes.T, bent, bent.across @ axes.T, area, part=part is not None)
    said = heard(found, jaw, hand, axes, middle, part=part)
    on_edges = bent.on_edges(graph)
    cost = graph.length * (0.15 + np.clip(-on_edges - 0.2, 0, 3) * 2.0)

    red = None if tint is None else at_corners(mesh, tint)

    def ringed(scale: float, read: Numbered) -> _Ringed:
        known = seeds(local, found, read.slots, jaw, border, scale)
        owner, _away = flooded(np.where(known.seed < known.gum, known.seed, 0), cost, graph)
        if red is not None:
            known.hue = hue(red, graph, known)
        return _Ringed(known, owner, outlined(local, graph, normals, bent.tensor, found, known, owner), scale, read)

    reads = (said.read, *said.read.others)
    by_scale = [max((ringed(scale, read) for scale in _STARTS), key=lambda r: r.fits) for read in reads]
    best = min(by_scale, key=lambda r: r.read.cost - _CREASES * r.mean) if len(reads) > 1 else by_scale[0]
    best = ringed(best.scale * (1 + best.shift), best.read)
    doubted = best.doubted
    if doubted:
        tried = ringed(best.scale, best.read.of_other_kind(doubted))
        better = [k for k in doubted if tried.crease(k) > best.crease(k) + _BETTER]
        best = ringed(best.scale, best.read.of_other_kind(better)) if better else best
    known, owner, rings = best.known, best.owner, best.rings
    real = np.array([0, *(_real(known, k, said.none, said.named) for k in range(len(known.crowns))), 0])
    label = labelled(local, known, rings)
    soft = bend(evened_normals(mesh, graph, max(1, rounds // 2)), graph)
    tooth = settled(graph, soft.on_edges(graph), area, known, rings, label, real)
    mine = np.where(tooth, np.where(label < known.gum, label, np.minimum(owner, known.gum)), 0)
    mine = np.where(real[mine] > 0, mine, 0).astype(np.int32)
    if hand.strokes:
        on = Creased(graph, normals, soft.on_edges(graph), area.astype(float))
        mine, lost = brushed(on, mine, np.where(real[owner] > 0, owner, 0), hand)
        said.unheeded += lost
    even = evened(graph, mine, len(known.crowns))
    label = even.label
    fdi = np.array([0, *(c.slot.fdi if c else 0 for c in known.crowns)], np.int16)
    crease = np.clip(-soft.least, 0, 3)
    told = [
        _told(mesh, local, found.line, c, k + 1, even, label, crease, border, said.named, part.sure if part else 1.0)
        for k, c in enumerate(known.crowns) if c is not None and (label == k + 1).any()
    ]  # fmt: skip
    teeth = [t for t in told if t is not None]
    return Told(fdi[label], teeth, best.read.scale, _gaps(known, {t.fdi for t in teeth}), said.unheeded)


@dataclass(frozen=True)
class _Ringed:
    """Outlines from crowns taken to be so tall (scale, against the usual); owner : (n,) whose a vertex would be."""

    known: Seeds
    owner: NDArray[np.int32]
    rings: Outlined
    scale: float
    read: Numbered

    @property
    def fits(self) -> float:
        return float(np.median(self._creases))

    @property
    def mean(self) -> float:
        return float(np.mean(self._creases))

    def crease(self, k: int) -> float:
        crown = self.known.crowns[k]
        return crown.crease - _WITHOUT * crown.weak if crown else -1.0

    @property
    def doubted(self) -> list[int]:
        """Of a mouth with milk teeth those that may be of the other kind: where they are taken to end there is hardly a crease."""
        if all(slot.fdi < 50 for slot in self.read.slots):
            return []
        return [k for k, slot in enumerate(self.read.slots) if slot.fdi % 10 < 6 and -1 < self.crease(k) < _DOUBTED]

    @property
    def _creases(self) -> list[float]:
        return [c.crease - _WITHOUT * c.weak for c in self.known.crowns if c is not None] or [-1.0]

    @property
    def shift(self) -> float:
        """By which share crowns are taller than taken."""
        shifts = [c.shift / c.tall for c in self.known.crowns if c is not None and c.shift is not None]
        return float(np.median(shifts)) if shifts else 0.0


def _levelled(mesh: Mesh, axes: NDArray, middle: NDArray, part: bool) -> tuple[NDArray, NDArray]:
    """(axes, (n, 3) places) of the plan in which the tips lie flat; those of a part say too little of it."""
    local = (mesh.vertices_mm - middle) @ axes.T
    if part:
        return axes, local
    for _ in range(3):
        turn = levelling(local)
        axes, local = turn @ axes, local @ turn.T
        if turn[2, 2] > np.cos(np.radians(1.0)):
            break
    return axes, local


def _real(known: Seeds, k: int, none: list[int], named: set[int]) -> int:
    """Its number, or 0 where it is none: a person said so, or no crease runs round it and it stands at an end or beside a gap."""
    crown = known.crowns[k]
    if crown is None or any(crown.slot.first <= step < crown.slot.last for step in none):
        return 0
    if crown.slot.fdi in named:
        return crown.slot.fdi
    beside = [known.crowns[j] for j in (k - 1, k + 1) if 0 <= j < len(known.crowns)]
    touched = [c for c in beside if c is not None and crown.slot.first <= c.slot.last and c.slot.first <= crown.slot.last]
    alone = len(touched) < 2
    return 0 if alone and crown.crease < _NO_CREASE and crown.weak > _ALL_WEAK else crown.slot.fdi


def _told(
    mesh: Mesh, local: NDArray, line: ArchLine, crown: Crown, k: int, even: Evened, label: NDArray, crease: NDArray, border: NDArray,
    named: set[int], place_sure: float,
) -> ToothTold | None:  # fmt: skip
    mine = np.flatnonzero(label == k)
    margin = margin_of(mesh, even, k, crease, border)
    if margin is None or len(mine) < 8:
        return None
    fdi = crown.slot.fdi
    at = int(line.index(np.array([(crown.slot.first + crown.slot.last) / 2 * STEP_MM]))[0])
    # The line runs from the patient's right to the left.
    way = line.way[at] * (-1.0 if fdi // 10 in (1, 4, 5, 8) else 1.0)
    own = local[mine]
    by_hand = fdi in named
    return ToothTold(
        fdi, 1.0 if by_hand else min(_confidence(crown), place_sure), by_hand, mesh.vertices_mm[mine].mean(0),
        width_mm(own, way, crown.tall, fdi % 10 < 4), mesh.vertices_mm[mine[tips_of(own, way, line.outward[at], fdi % 10)]], margin,
    )  # fmt: skip


def _confidence(crown: Crown) -> float:
    number = 1 / (1 + np.exp(-(crown.slot.sure - _SURE_AT) / _SURE_SOON))
    tooth = 1 / (1 + np.exp(-(crown.crease - _TOOTH_AT) / _TOOTH_SOON))
    return float(number * tooth)


def _gaps(known: Seeds, there: set[int]) -> list[tuple[int, int, float]]:
    stand = [c.slot for c in known.crowns if c is not None and c.slot.fdi in there]
    room = [(a.fdi, b.fdi, (b.first - a.last) * STEP_MM) for a, b in itertools.pairwise(stand)]
    return [(a, b, mm) for a, b, mm in room if mm > 0]
