"""Level over many generated scans: the occlusal plane and the midline beside the truth, jaws alone and together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bitecore.anatomy.whatis import recognise
from bitecore.engine.gives import Files
from bitecore.mesh import Mesh
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, standard
from demo import variants
from demo.arch import pair

from .intake import plan, wide_plan
from .second import mouth, second_plan


@dataclass(frozen=True)
class LevelOutcome:
    """plane_deg : between the normals; midline_deg, midline_mm : direction and place of the midline at the incisors."""

    case: int
    kind: str
    plane_deg: float
    midline_deg: float
    midline_mm: float

    @property
    def good(self) -> bool:
        return self.plane_deg <= 3 and self.midline_deg <= 5 and self.midline_mm <= 1


def judged_levels(number: int, *, grid_mm: float = 0.6) -> list[LevelOutcome]:
    """The pair as it came, the lower alone, the upper alone; each turned any way. The truth is that of the generator: the
    plane of the lower jaw, or of the upper where it is alone; the midline is x = 0."""
    return levels_of(number, pair(plan(number, grid_mm=grid_mm)))


def judged_wide_levels(number: int, *, grid_mm: float = 0.6) -> list[LevelOutcome]:
    return levels_of(number, pair(wide_plan(number, grid_mm=grid_mm)))


def judged_second_levels(number: int, *, step_mm: float = 0.4) -> list[LevelOutcome]:
    """Of mouths by other rules."""
    return levels_of(number, mouth(second_plan(number, step_mm=step_mm)))


def levels_of(number: int, both) -> list[LevelOutcome]:  # noqa: ANN001
    turn = variants.turned(500 + number)
    upper, lower = (j.mesh.moved(turn) for j in (both.upper, both.lower))
    out = []
    for kind, scans, truth in (
        ("pair", {"upper": upper, "lower": lower}, both.lower),
        ("lower alone", {"lower": lower}, both.lower),
        ("upper alone", {"upper": upper}, both.upper),
    ):
        lead = "lower" if "lower" in scans else "upper"
        found = _levelled(scans)[lead] @ turn
        out.append(_beside(number, kind, found, truth, lead))
    return out


def _levelled(scans: dict[str, Mesh]) -> dict[str, np.ndarray]:
    step = standard()["level"]
    abouts = {}
    for jaw, mesh in scans.items():
        shape = recognise(mesh)
        # Level is asked about jaws that are known: of one taken for the other, Intake's trial tells.
        incisal = None if shape.incisal is None else shape.incisal.tolist()
        abouts[jaw] = {"up": shape.up.tolist(), "front": shape.front.tolist(), "incisal": incisal}
    teeth = {j: _teeth(mesh, j, abouts[j]) for j, mesh in scans.items()}
    values = {
        "mesh": scans,
        "about": abouts,
        "teeth": teeth,
        "midline": {},
        "home_to_bite": {j: np.eye(4).tolist() for j in scans},
        "method": None,
    }
    done = step.apply(Inputs(values, jaws={j: j for j in scans}), step.check({}), QUIET)
    return {j: np.array(m) for j, m in done.values["home_to_bench"].items()}


def _teeth(mesh: Mesh, jaw: str, about: dict) -> list[dict]:
    step = standard()["teeth"]
    return step.apply(Inputs({"mesh": mesh, "about": about, "chart": "", "tint": Files()}, jaw, jaw), step.check({}), QUIET).values["teeth"]


def _beside(number: int, kind: str, found: np.ndarray, truth, jaw: str) -> LevelOutcome:  # noqa: ANN001
    """found : bench of the truth to the bench that was found."""
    up = truth.up() if jaw == "lower" else -truth.up()
    normal = found[:3, :3].T @ [0.0, 0.0, 1.0]
    plane = float(np.degrees(np.arccos(np.clip(normal @ up, -1, 1))))
    back = found[:3, :3].T @ [0.0, 1.0, 0.0]
    midline = abs(float(np.degrees(np.arctan2(back[0], back[1]))))
    origin = np.linalg.inv(found)[:3, 3]
    return LevelOutcome(number, kind, plane, midline, abs(float(origin[0])))
