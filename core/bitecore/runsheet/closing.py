"""A pair in its bite on the bench, and where it meets, told with teeth and in the scans' homes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..anatomy.teeth.numbers import numbers_at
from ..engine.model import Inputs, Need
from ..mesh import Mesh
from ..ops.rigid import rounded
from ..ops.swing import Meeting

NEEDS: Mapping[str, Need] = {
    "mesh": Need("clean", "mesh", each=True),
    "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
    "home_to_bench": Need("level", "home_to_bench", each=True),
    "teeth": Need("teeth", "mesh", each=True, optional=True),
}


@dataclass(frozen=True)
class Closing:
    """By jaw: piece, and home to bench (4, 4)."""

    piece: dict[str, str]
    matrix: dict[str, NDArray[np.float64]]

    @classmethod
    def of(cls, inputs: Inputs) -> Closing | None:
        """None while there are not two jaws in a bite."""
        piece = {jaw: each for each, jaw in inputs.jaws.items()}
        if set(piece) != {"upper", "lower"} or any(inputs["home_to_bite"].get(each) is None for each in piece.values()):
            return None
        return cls(piece, {jaw: np.array(inputs["home_to_bench"][each]) for jaw, each in piece.items()})

    def meshes(self, inputs: Inputs) -> dict[str, Mesh]:
        """By jaw, on the bench."""
        return {jaw: inputs["mesh"][each].moved(self.matrix[jaw]) for jaw, each in self.piece.items()}

    def home(self, jaw: str, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """(k, 3) from the bench."""
        return at(np.linalg.inv(self.matrix[jaw]), points)

    def met(
        self, inputs: Inputs, meets: Sequence[Meeting], *, on: str, lower: NDArray[np.float64] | None = None
    ) -> tuple[list[dict[str, Any]], dict[str, list[int | None]]]:
        """(as values_held.Meets with places on that jaw, the teeth that meet by jaw). lower : (4, 4) how the lower has moved."""
        points = np.array([m.at_mm for m in meets]).reshape(-1, 3)
        on_lower = points if lower is None else at(np.linalg.inv(lower), points)
        home = {"upper": self.home("upper", points), "lower": self.home("lower", on_lower)}
        teeth = {jaw: numbers_at(inputs["teeth"].get(each), home[jaw]) for jaw, each in self.piece.items()}
        listed = [
            {
                "teeth": (teeth["upper"][k], teeth["lower"][k]), "piece": self.piece[on], "point_mm": rounded(home[on][k]),
                "open_deg": round(float(np.degrees(m.open_rad)), 4), "high_mm": round(m.high_mm, 4),
            }
            for k, m in enumerate(meets)
        ]  # fmt: skip
        return listed, teeth


def at(matrix: NDArray, points: NDArray) -> NDArray[np.float64]:
    return points @ matrix[:3, :3].T + matrix[:3, 3]
