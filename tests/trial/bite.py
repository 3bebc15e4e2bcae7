"""The bite over many generated pairs: two bite scans or one, with white noise alone or with the slow error of a scanner."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

import numpy as np

from bitecore.anatomy.bitescans import fit_bite
from bitecore.anatomy.jaw import Jaw
from bitecore.anatomy.whatis import recognise
from bitecore.mesh import Mesh
from demo import rescans, variants

from .intake import plan


@dataclass(frozen=True)
class BiteOutcome:
    """mean_mm, worst_mm : how far the lower's tips and edges are from where they should be; stated_mm : what the fit says."""

    case: int
    kind: str
    given: bool
    mean_mm: float
    worst_mm: float
    rms_mm: float
    stated_mm: float
    sides: bool
    why: str
    seconds: float


def judged_bites(number: int, grid_mm: float = 0.5) -> list[BiteOutcome]:
    asked = plan(number, grid_mm=grid_mm)
    truth = rescans.true_pair(asked)
    out = []
    for kind, warp, both in (("two sides", 0.0, True), ("two sides, slow error", 0.02, True), ("one side", 0.0, False),
                             ("one side, slow error", 0.02, False)):  # fmt: skip
        noisy = replace(asked, noise_mm=0.02, warp_mm=warp)
        out.append(_outcome(number, kind, truth, noisy, both))
    return out


def _outcome(number, kind, truth, noisy, both) -> BiteOutcome:  # noqa: ANN001
    rng = np.random.default_rng(9000 + 10 * number + len(kind))
    turns = [variants.turned(int(rng.integers(1 << 30))) for _ in range(4)]
    jaws = [rescans.as_scanned(j.mesh, noisy, rng).moved(m) for j, m in zip((truth.upper, truth.lower), turns, strict=False)]
    sides = (True, False) if both else (bool(rng.integers(2)),)
    scans = {f"s{left:d}": rescans.bite_scan(truth, noisy, left=left, rng=rng).moved(turns[2 + left]) for left in sides}
    upper, lower = (looked_at(mesh) for mesh in jaws)
    start = time.perf_counter()
    fit = fit_bite(upper, lower, scans)
    seconds = time.perf_counter() - start
    right = all(s.side == ("left" if s.piece == "s1" else "right") for s in fit.scans)
    if fit.lower_to_upper is None:
        return BiteOutcome(number, kind, False, np.nan, np.nan, np.nan, fit.error_mm, right, fit.why, seconds)
    tips = np.vstack(list(truth.lower.tips_mm().values()))
    home = tips @ turns[1][:3, :3].T + turns[1][:3, 3]
    off = fit.lower_to_upper - turns[0] @ np.linalg.inv(turns[1])
    error = np.linalg.norm(home @ off[:3, :3].T + off[:3, 3], axis=1)
    rms = float(np.sqrt(np.mean(error**2)))
    return BiteOutcome(number, kind, True, float(error.mean()), float(error.max()), rms, fit.error_mm, right, "", seconds)


def looked_at(mesh: Mesh) -> Jaw:
    shape = recognise(mesh)
    incisal = shape.incisal if shape.incisal is not None else mesh.vertices_mm.mean(0)
    return Jaw(mesh, shape.up, shape.front, incisal)
