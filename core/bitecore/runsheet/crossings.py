"""Which triangles of a scan go through others: found once, at Intake, and handed on."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..engine.gives import Files, FileValue
from ..mesh import Mesh
from ..ops.flaws import folds_known


def as_file(crosses: NDArray[np.bool_]) -> Files:
    """(m,) of all triangles; their numbers are kept."""
    return Files([FileValue("crossing", np.flatnonzero(crosses).astype("<u4").tobytes())])


def with_crossings(mesh: Mesh, known: Files | None) -> Mesh:
    """The scan's mesh with what Intake has found; a result of an earlier version has none."""
    return folds_known(mesh, np.frombuffer(known[0].data, "<u4")) if known else mesh
