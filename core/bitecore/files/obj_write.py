"""OBJ out: vertex and face lines, indices from 1."""

from __future__ import annotations

import io

import numpy as np

from ..mesh import Mesh


def write(mesh: Mesh) -> bytes:
    """Text with nine significant digits, in the mesh's own unit."""
    out = io.BytesIO(b"")
    np.savetxt(out, mesh.vertices_mm, fmt="v %.9g %.9g %.9g")
    np.savetxt(out, mesh.faces + 1, fmt="f %d %d %d")
    return out.getvalue()
