"""Which relation is believed, over many generated pairs: jaws that came 0 to 12 mm and 0 to 15° off their place, with two
bite scans, one, none; with one of two inside-out, or of another mouth."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from bitecore.files import stl
from bitecore.mesh import Mesh
from bitecore.ops.rigid import placed
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from demo import rescans, variants
from demo.arch import ArchPlan

from .intake import plan
from .second import mouth, second_plan

WAYS = ("two bite scans", "one bite scan", "no bite scan", "two, one inside-out", "two, one of another mouth")
# The relation is right where the lower's teeth are off by no more than a fit may be (measures of the project).
RIGHT_MM = 0.15
# Without a bite scan, less than this cannot be seen from two jaws: it is what an open bite is flagged from.
_SEEN_MM = 0.5
_QUESTIONS = {
    "jaws-swapped",
    "bite-instead",
    "doubtful-bite",
    "no-relation",
    "fit-refused",
    "too-hard",
    "open-bite",
    "bite-left-out",
    "sides-disagree",
}


@dataclass(frozen=True)
class RelationOutcome:
    """off_mm, off_deg : how the lower came; error_mm : of the teeth, None where the bite was left open; asked : something
    was said that a person has to look at."""

    case: int
    way: str
    off_mm: float
    off_deg: float
    method: str
    error_mm: float | None
    asked: bool
    seconds: float

    @property
    def right(self) -> bool:
        """By itself, or, without bite scans, left open where the jaws came off their place."""
        if self.error_mm is None:
            return self.way == "no bite scan" and self.off_mm > 0
        return self.error_mm < RIGHT_MM

    @property
    def wrong(self) -> bool:
        """Without a question."""
        return self.error_mm is not None and self.error_mm > (_SEEN_MM if self.way == "no bite scan" else RIGHT_MM) and not self.asked


def judged_relations(number: int, grid_mm: float = 0.5) -> list[RelationOutcome]:
    asked, other = plan(number, grid_mm=grid_mm), plan(number + 400, grid_mm=grid_mm)
    return relations_of(number, rescans.true_pair(asked), rescans.true_pair(other))


def judged_second_relations(number: int, step_mm: float = 0.35) -> list[RelationOutcome]:
    """Of mouths by other rules."""
    one, other = (mouth(replace(second_plan(n, step_mm=step_mm), noise_mm=0.0)) for n in (number, number + 400))
    return relations_of(number, one, other)


def relations_of(number, truth, other) -> list[RelationOutcome]:  # noqa: ANN001
    """All ways of one pair; other : of another mouth. One in four came in its relation."""
    rng = np.random.default_rng(9500 + number)
    noisy = ArchPlan(noise_mm=0.02)
    upper, lower = (rescans.as_scanned(j.mesh, noisy, rng) for j in (truth.upper, truth.lower))
    mm, deg = (0.0, 0.0) if number % 4 == 0 else (float(rng.uniform(0.5, 12)), float(rng.uniform(0, 15)))
    off = away(lower.vertices_mm.mean(0), mm, deg, rng)
    bites = [_elsewhere(rescans.bite_scan(truth, noisy, left=left, rng=rng), rng) for left in (True, False)]
    strange = _elsewhere(rescans.bite_scan(other, noisy, left=False, rng=rng), rng)
    sets = (bites, bites[:1], [], [bites[0], bites[1].turned_inside_out()], [bites[0], strange])
    tips = np.vstack(list(truth.lower.tips_mm().values()))
    store = MemoryStore()
    files = [store.blobs.write(stl.write_binary(m)) for m in (upper, lower.moved(off))]
    out = []
    for way, more in zip(WAYS, sets, strict=True):
        start = time.perf_counter()
        names = [*files, *(store.blobs.write(stl.write_binary(m)) for m in more)]
        out.append(_outcome(number, way, (mm, deg), names, store, off, tips, start))
    return out


def _elsewhere(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    return mesh.moved(variants.turned(int(rng.integers(1 << 30))))


def _outcome(number, way, came, files, store, off, tips, start) -> RelationOutcome:  # noqa: ANN001
    pieces = [PieceEntry(id=f"p{i}", file="scan.stl", sha256=digest) for i, digest in enumerate(files, 1)]
    # Which jaw is which is another row of the trial.
    intake = {"p1": {"kind": "jaw", "jaw": "upper"}, "p2": {"kind": "jaw", "jaw": "lower"}, **{p.id: {"kind": "bite"} for p in pieces[2:]}}
    graph = evaluate(CaseDocument(number="1", pieces=pieces, settings={"intake": intake}), CASE, store, until="bite").graph
    node = graph.node("bite")
    codes = {f["code"] for f in node.manifest.flags}
    rows = node.json("home_to_bite", "p2")
    error = None
    if rows is not None:
        m = np.array(rows) @ off - np.eye(4)
        error = float(np.sqrt(np.mean(np.sum((tips @ m[:3, :3].T + m[:3, 3]) ** 2, axis=1))))
    asked = bool(codes & _QUESTIONS)
    return RelationOutcome(number, way, *came, node.json("method"), error, asked, time.perf_counter() - start)


def away(middle: NDArray, mm: float, deg: float, rng: np.random.Generator) -> NDArray[np.float64]:
    """(4, 4) a movement of the lower about its middle; as often apart from the upper as beside it or into it."""
    axis, way = rng.normal(size=3), rng.normal(size=3)
    turn = Rotation.from_rotvec(np.radians(deg) * axis / np.linalg.norm(axis)).as_matrix()
    return placed(turn, middle - turn @ middle + mm * way / np.linalg.norm(way))
