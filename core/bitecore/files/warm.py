"""Read one small scan of every kind, so that the readers' kernels are loaded. For the process that children are forked from."""

from __future__ import annotations

from ..mesh import Mesh
from . import obj_write, ply, read_mesh, stl, threemf

_PLY = (
    b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\n"
    b"property list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"
)
_QUAD = (
    b"ply\nformat binary_little_endian 1.0\nelement vertex 4\nproperty uchar x\nproperty uchar y\nproperty uchar z\nelement face 1\n"
    b"property list uchar uchar vertex_indices\nend_header\n" + bytes([0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0, 4, 0, 1, 2, 3])
)


def read_each() -> None:
    mesh = Mesh.of([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
    for data in (stl.write_ascii(mesh), ply.write(mesh), _PLY, _QUAD, obj_write.write(mesh), threemf.write([("a", mesh)])):
        read_mesh("a scan", data)


read_each()
