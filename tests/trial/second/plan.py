"""What a jaw of the second generator shall be like, and the arch its teeth stand on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FORMS = ("beta", "ellipse", "parabola", "catenary", "square")


@dataclass(frozen=True)
class SecondPlan:
    """seed decides what is not said; sizes in mm.

    form, slim     : which family of curves, and its depth through its width at the second molars
    spee, wilson   : sag of the lower's tips; lean of the lower's back teeth to the tongue in degrees
    palate         : none, flat or deep; floor: the lower was scanned down to the floor of the mouth
    reach          : how far the scan goes over the margin, in mm
    recession      : of the margin; film : how far embrasures are filled (0 to 1)
    """

    seed: int
    step_mm: float = 0.4
    form: str = "beta"
    slim: float = 0.78
    spee_mm: float = 1.0
    wilson_deg: float = 8.0
    overjet_mm: float = 2.5
    overbite_mm: float = 2.5
    palate: str = "deep"
    floor: bool = False
    reach_mm: float = 8.0
    ragged_mm: float = 0.8
    recession_mm: float = 0.0
    film: float = 0.2
    tall: float = 1.0
    crowding: float = 0.3
    noise_mm: float = 0.012
    gaps: tuple[int, ...] = ()
    third: bool = False


def second_plan(number: int, *, step_mm: float = 0.4) -> SecondPlan:
    """Any mouth, by number."""
    rng = np.random.default_rng(515_000 + number)
    gaps = rng.choice((14, 15, 16, 17, 24, 26, 27, 34, 35, 36, 37, 44, 45, 46, 47), size=int(rng.integers(1, 4)), replace=False)
    return SecondPlan(
        seed=616_000 + number, step_mm=step_mm, form=FORMS[int(rng.integers(len(FORMS)))], slim=float(rng.normal(0.78, 0.05)),
        spee_mm=float(np.clip(rng.normal(1.1, 0.8), -0.3, 3.0)), wilson_deg=float(rng.normal(9, 4)),
        overjet_mm=float(np.clip(rng.normal(2.5, 1.6), -2.0, 7.0)), overbite_mm=float(np.clip(rng.normal(2.6, 1.4), 0.0, 5.5)),
        palate=("deep", "flat", "none", "deep")[int(rng.integers(4))], floor=bool(rng.random() < 0.3),
        reach_mm=float(rng.uniform(3.5, 11.0)), ragged_mm=float(rng.uniform(0.3, 1.5)),
        recession_mm=float(np.clip(rng.normal(0, 1.0), -1.0, 2.5)), film=float(rng.uniform(0, 0.8)), tall=float(rng.normal(1.0, 0.08)),
        crowding=float(rng.uniform(0, 0.9)), noise_mm=float(rng.uniform(0.005, 0.025)),
        gaps=tuple(int(g) for g in gaps) if number % 4 == 3 else (), third=number % 6 == 1,
    )  # fmt: skip


def arch_line(form: str, *, slim: float, run_mm: float) -> NDArray[np.float64]:
    """(k, 2) x, y of the left half of an arch, front to back, carried on behind straight; so large that run_mm along it lead
    to its width at the second molars."""
    x = np.sin(np.linspace(0, np.pi / 2, 900))  # of half the width, dense where the arch turns back
    y = {
        # 3.0314 (1/2 + x/W)^0.8 (1/2 − x/W)^0.8 is the height of the arch over the molars' line (Braun and others, The form of
        # the human dental arch, Angle Orthodontist 1998; from memory).
        "beta": 1 - 3.0314 * ((0.5 + x / 2) * (0.5 - x / 2)) ** 0.8,
        "ellipse": 1 - np.sqrt(np.clip(1 - (0.97 * x) ** 2, 0, 1)),
        "parabola": x**2,
        "catenary": np.cosh(2.1 * x) - 1,
        "square": 1 - (1 - np.clip(0.985 * x, 0, 1) ** 3.0) ** (1 / 3.0),
    }[form]
    y = y / y[-1] * 2 * slim
    line = np.c_[x, y]
    line *= run_mm / np.linalg.norm(np.diff(line, axis=0), axis=1).sum()
    end = line[-1] - line[-30]
    end = end * [0.4, 1.0]
    return np.vstack([line, line[-1] + np.linspace(0.02, 1, 120)[:, None] * 28 * end / np.linalg.norm(end)])


def drawn_in(line: NDArray, by_mm: float) -> NDArray[np.float64]:
    """The line, so much nearer to the tongue all along."""
    tangent = np.gradient(line, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    out = line + by_mm * np.c_[-tangent[:, 1], tangent[:, 0]]
    return out[out[:, 0] >= -1e-6]
