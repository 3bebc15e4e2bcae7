"""Sizes and profiles of the second generator's teeth.

Widths along the arch after G. V. Black, Descriptive Anatomy of the Human Teeth (from memory); across it and heights are
rounded from several handbooks (from memory).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

# mesio-distal, labio-lingual, height of the crown; central incisor to third molar
UPPER = (
    (9.0, 7.1, 10.0), (6.4, 6.2, 8.8), (7.6, 7.9, 9.5), (7.2, 9.1, 8.2), (6.8, 8.8, 7.5), (10.7, 11.8, 7.2), (9.2, 11.5, 7.0),
    (8.6, 10.6, 6.3),
)  # fmt: skip
LOWER = (
    (5.4, 6.0, 8.8), (5.9, 6.3, 9.2), (6.9, 7.7, 10.3), (6.9, 7.7, 8.0), (7.1, 8.0, 7.6), (11.2, 10.3, 7.4), (10.7, 10.1, 6.9),
    (10.7, 9.5, 6.6),
)  # fmt: skip


@dataclass(frozen=True)
class Tooth:
    """at, wide : its middle and width along the arch; thick, tall : across it and up; out, turn, raised, lean : how it stands."""

    number: int
    upper: bool
    at: float
    wide: float
    thick: float
    tall: float
    out: float
    turn: float
    raised: float
    lean: float
    missing: bool

    @property
    def fdi(self) -> int:
        left = self.at > 0
        return ((2 if left else 1) if self.upper else (3 if left else 4)) * 10 + self.number

    def across(self, r: NDArray) -> tuple[NDArray, NDArray]:
        """(towards the cheek, towards the tongue) half thickness at r from −1 to 1 along it."""
        power = (4.0, 4.0, 2.4, 2.3, 2.3, 3.4, 3.4, 3.0)[self.number - 1]
        plan = np.clip(1 - np.abs(r) ** power, 0, 1) ** (1 / power)
        cheek = (0.45 if self.number < 4 else 0.5) * self.thick * (0.62 + 0.38 * plan)
        tongue = (0.55 if self.number < 4 else 0.5) * self.thick * (0.34 + 0.66 * plan)
        return cheek, tongue

    def cheek_top(self, r: NDArray) -> NDArray:
        """How far the outer cusps or the edge lie under the tip."""
        if self.number < 3:
            return 0.15 * self.tall * np.abs(r) ** 6 + 0.25 * np.clip(r, 0, 1) ** 3
        if self.number == 3:
            return 1.9 * np.sqrt(r**2 + 0.01) - 0.19
        if self.number < 6:
            return 1.7 * np.sqrt(r**2 + 0.02) - 0.24
        spots = (-0.62, 0.02, 0.6) if self.number == 6 and not self.upper else (-0.48, 0.46)
        return np.min([1.9 * np.sqrt((r - c) ** 2 + 0.006) - 0.15 + 0.15 * k for k, c in enumerate(spots)], axis=0)

    def tongue_top(self, r: NDArray) -> NDArray:
        """The same of the inner cusps; of front teeth the ledge of the cingulum."""
        if self.number < 4:
            return np.full_like(r, 0.62 * self.tall)
        low = {4: 0.9 if self.upper else 3.0, 5: 0.5 if self.upper else 1.2}.get(self.number, 0.3 if self.upper else 0.2)
        spots = (-0.45, 0.5) if self.number > 5 else (-0.1,)
        return low + np.min([1.6 * np.sqrt((r - c) ** 2 + 0.01) - 0.16 + 0.3 * k for k, c in enumerate(spots)], axis=0)

    def groove(self, r: NDArray) -> NDArray:
        return 2.5 - 0.9 * np.abs(r) ** 3 + 0.25 * np.cos(7 * r) if self.number > 3 else np.full_like(r, 0.35 * self.tall)


def stand(upper: bool, plan, rng: np.random.Generator) -> list[Tooth]:  # noqa: ANN001
    """All teeth of one jaw side by side, right and left of s = 0 (left: s > 0)."""
    size = rng.normal(1.0, 0.045)
    widths = rng.normal(1.0, 0.04, 8)
    heights = rng.normal(plan.tall, 0.04, 8)
    out = []
    for side in (1, -1):
        s = 0.0
        for number in range(1, 9 if plan.third else 8):
            wide, thick, tall = np.array((UPPER if upper else LOWER)[number - 1]) * size
            wide, tall = wide * widths[number - 1] * rng.normal(1, 0.015), tall * heights[number - 1]
            fdi = ((2 if side > 0 else 1) if upper else (3 if side > 0 else 4)) * 10 + number
            front = number < 4
            lean = {1: 14, 2: 11, 3: 4}.get(number, 4 if upper else -plan.wilson_deg) + rng.normal(0, 2.5)
            over = 0.4 * plan.overbite_mm - 0.6 if upper and front else 0.0
            tooth = Tooth(
                number, upper, side * (s + wide / 2), wide, thick * rng.normal(1, 0.03), tall,
                out=float(np.clip(rng.normal(0, 0.12 + 0.9 * plan.crowding * front), -1.5, 1.5)),
                turn=float(np.tan(np.radians(rng.normal(0, 2 + 9 * plan.crowding * front)))), raised=rng.normal(over, 0.15),
                lean=float(np.radians(lean)), missing=fdi in plan.gaps,
            )  # fmt: skip
            out.append(tooth)
            s += wide - 0.05
    return sorted(out, key=lambda t: t.at)
