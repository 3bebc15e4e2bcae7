"""Parts of arches, as scans of one side, of three quarters or of the front: what Intake makes of them, and which teeth are told."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bitecore.anatomy.teeth.prices import Partly
from bitecore.anatomy.teeth.told import teeth_told
from bitecore.anatomy.whatis import Shape, recognise
from bitecore.mesh import Mesh, face_areas_mm2, face_components
from demo import rescans
from demo.arch import Jaw, pair

from .intake import plan, wide_plan
from .second import cheek_strip, mouth, second_plan
from .teeth import JawOutcome, beside

PARTS = ("one side", "three quarters", "front", "back teeth of one side")
_FRONT = np.array([0.0, -1.0, 0.0])
# So much of a tooth has to be there.
_MOST = 0.6
# A side is scanned so far past the midline (mm).
_PAST_MM = (1.0, 7.0)


@dataclass(frozen=True)
class PartOutcome:
    """kind, jaw : was it seen; up_deg, front_deg : by how much it was taken to face wrongly; sure : as it was said, of the jaw;
    facing_sure : of the place in the arch."""

    name: str
    what: str
    kind: bool
    jaw: bool
    up_deg: float
    front_deg: float
    sure: float
    facing_sure: float
    seconds: float


@dataclass(frozen=True)
class _Piece:
    """whole : the teeth of which most is there; slivers at the cut are not asked for."""

    what: str
    jaw: str
    mesh: Mesh
    tooth: NDArray[np.int16]
    up: NDArray[np.float64]
    whole: frozenset[int]


def judged_parts(number: int, *, second: bool, whats: tuple[str, ...] = PARTS) -> list[tuple[PartOutcome, JawOutcome | None]]:
    """Each part of a mouth, and the strip of a bite, which is none."""
    out: list[tuple[PartOutcome, JawOutcome | None]] = []
    for piece in _pieces(number, second, whats):
        start = time.perf_counter()
        shape = recognise(piece.mesh)
        seconds = time.perf_counter() - start
        name = f"{number} {piece.jaw} {piece.what}"
        off = _degrees(shape.up, piece.up), _degrees(shape.front, _FRONT)
        sure = shape.part.sure if shape.part else shape.confidence
        seen = PartOutcome(name, piece.what, shape.kind == "jaw", shape.jaw == piece.jaw, *off, shape.confidence, sure, seconds)
        out.append((seen, _teeth(number, piece, shape) if shape.kind == "jaw" else None))
    strip = recognise(_strip(number, second))
    out.append((PartOutcome(f"{number} bite", "bite", strip.kind == "bite", True, 0, 0, strip.confidence, 1, 0), None))
    return out


def _strip(number: int, second: bool) -> Mesh:
    rng = np.random.default_rng(6500 + number)
    if second:
        both = mouth(second_plan(number, step_mm=0.45))
        return cheek_strip(both, left=bool(number % 2), sees=float(rng.uniform(-0.5, 0.3)), high_mm=float(rng.uniform(7, 12)))
    own = plan(number)
    return rescans.bite_scan(pair(own), own, left=bool(number % 2), rng=rng)


def _pieces(number: int, second: bool, whats: tuple[str, ...]) -> Iterator[_Piece]:
    rng = np.random.default_rng(6000 + number)
    both = mouth(second_plan(number, step_mm=0.35)) if second else pair(wide_plan(number, grid_mm=0.5))
    for name, jaw in (("upper", both.upper), ("lower", both.lower)):
        middle = jaw.mesh.vertices_mm[jaw.mesh.faces].mean(1)
        deep = (middle[:, 1] - middle[:, 1].min()) / np.ptp(middle[:, 1])
        left = 1.0 if rng.random() < 0.5 else -1.0
        aside = middle[:, 0] * left
        past = float(rng.uniform(*_PAST_MM))
        keeps = (aside > -past, (aside > -past) | (deep < 0.55), deep < 0.45, (aside > 0) & (deep > 0.35))
        for what, keep in zip(PARTS, keeps, strict=True):
            if what in whats:
                mesh, tooth = jaw.mesh.of_faces(keep), jaw.tooth[keep]
                label = face_components(mesh)[1]
                main = label == np.bincount(label).argmax()
                left = mesh.of_faces(main)
                yield _Piece(what, name, left, tooth[main], jaw.up(), _whole(jaw, left, tooth[main]))


def _whole(jaw: Jaw, left: Mesh, tooth: NDArray) -> frozenset[int]:
    area, own = face_areas_mm2(jaw.mesh), face_areas_mm2(left)
    seen = {int(f): own[tooth == f].sum() / area[jaw.tooth == f].sum() for f in np.unique(tooth[tooth > 0])}
    return frozenset(f for f, share in seen.items() if share > _MOST)


def _teeth(number: int, piece: _Piece, shape: Shape) -> JawOutcome:
    """Told with what Intake saw, and the jaw as a person says it."""
    start = time.perf_counter()
    middle = shape.incisal if shape.incisal is not None else piece.mesh.vertices_mm.mean(0)
    part = shape.part and Partly(4.0 if min(shape.part.reach_mm(piece.jaw)) > 0 else 9.0, shape.part.sure)
    told = teeth_told(piece.mesh, jaw=piece.jaw, up=shape.up, front=shape.front, midline=middle, part=part)
    out = beside(number, piece.jaw, piece.mesh, piece.tooth, told, time.perf_counter() - start, piece.up)
    return replace(out, teeth=tuple(t for t in out.teeth if t.fdi in piece.whole))


def _degrees(a: NDArray, b: NDArray) -> float:
    return float(np.degrees(np.arccos(np.clip(a @ b / np.linalg.norm(a) / np.linalg.norm(b), -1, 1))))


def judged_wide_parts(number: int) -> list[tuple[PartOutcome, JawOutcome | None]]:
    return judged_parts(number, second=False)


def judged_second_parts(number: int) -> list[tuple[PartOutcome, JawOutcome | None]]:
    return judged_parts(number, second=True)
