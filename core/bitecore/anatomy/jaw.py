"""A jaw with what Intake saw of it, as everything that fits jaws to each other takes it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..mesh import Mesh, used_vertices
from ..ops.mend import largest_piece
from ..ops.starts import samples_of
from .arch_starts import Arch
from .occlusal import frame_basis

_ARCH_POINTS = 14_000


@dataclass(frozen=True)
class Jaw:
    """up to the tips, front to the lips, incisal (3,) mm: from Intake, in the jaw's home. part : it is a part of an arch."""

    mesh: Mesh
    up: NDArray[np.float64]
    front: NDArray[np.float64]
    incisal: NDArray[np.float64]
    part: bool = False

    @classmethod
    def seen(cls, mesh: Mesh, about: Mapping[str, Any]) -> Jaw:
        """With the words of Intake; where no tips were found, the middle stands for the incisal point."""
        incisal = about.get("incisal") or mesh.vertices_mm.mean(0)
        return cls(mesh, np.array(about["up"]), np.array(about["front"]), np.array(incisal), "part" in about)

    def arch(self) -> Arch:
        return Arch(samples_of(self.mesh, _ARCH_POINTS), self.up, self.front, self.incisal)

    def teeth(self) -> NDArray[np.float64]:
        """(k, 3) points on the crowns, spread over the arch."""
        points = samples_of(self.mesh, 4000).points_mm
        height = ((points - self.incisal) @ frame_basis(self.up, self.front).T)[:, 2]
        return points[(height > -4.0) & (height < 3.0)]

    def crowns(self) -> NDArray[np.float64]:
        """(k, 3) all vertices of the surface down to 7 mm under the tips, floating bits left out."""
        mesh = largest_piece(self.mesh)
        points = mesh.vertices_mm[used_vertices(mesh)]
        height = points @ self.up
        return points[height > np.quantile(height, 0.997) - 7.0]
