"""Bodies as they stand on their foot."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..mesh import Mesh
from ..ops.clip import frame_of


class Frame:
    """z up, y to the back, from the foot's origin."""

    def __init__(self, rotation: NDArray, origin: NDArray) -> None:
        self.rotation, self.origin = rotation, origin

    def of(self, points: ArrayLike) -> NDArray[np.float64]:
        return (np.asarray(points, np.float64) - self.origin) @ self.rotation.T

    def home(self, points: ArrayLike) -> NDArray[np.float64]:
        return np.asarray(points, np.float64) @ self.rotation + self.origin

    def way_home(self, way: ArrayLike) -> NDArray[np.float64]:
        """Of a direction."""
        return np.asarray(way, np.float64) @ self.rotation

    def mesh(self, mesh: Mesh) -> Mesh:
        return mesh.with_vertices(self.of(mesh.vertices_mm))

    def home_mesh(self, mesh: Mesh) -> Mesh:
        return mesh.with_vertices(self.home(mesh.vertices_mm))


def standing_on(foot: Mapping[str, Any]) -> Frame:
    """Of a values.Foot."""
    return Frame(frame_of(foot["up"], foot["front"]), np.array(foot["origin"]))
