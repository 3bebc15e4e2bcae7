"""The mesh that every step takes and gives: frozen arrays, millimetres, outward counter-clockwise."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..errors import BadMesh

# What a face is made of, kept through all steps so that the tooth surface can be told from what was added.
GROUP_SCAN = 0
GROUP_PATCH = 1
GROUP_CUT = 2

_MAGIC = b"BBMESH1\n"


def _locked(array: NDArray) -> NDArray:
    array.setflags(write=False)
    return array


@dataclass(frozen=True, eq=False)
class Mesh:
    """vertices_mm : (n, 3) float64; faces : (m, 3) int32; groups : (m,) uint8, one of GROUP_*; of a map, distances
    (see mapped.py).

    The arrays are copied in, checked and locked. Vertices that no face uses are allowed.
    """

    vertices_mm: NDArray[np.float64]
    faces: NDArray[np.int32]
    groups: NDArray[np.uint8]
    _memo: dict = field(default_factory=dict, repr=False)

    @classmethod
    def of(cls, vertices_mm: ArrayLike, faces: ArrayLike, groups: ArrayLike | None = None) -> Mesh:
        """Checked copy of the arrays. Raises BadMesh for wrong shapes, indices or numbers that are not finite."""
        v = np.array(vertices_mm, dtype=np.float64, order="C")
        f = np.array(faces, dtype=np.int32, order="C")
        if f.size == 0:
            f = f.reshape(0, 3)
        if v.size == 0:
            v = v.reshape(0, 3)
        if v.ndim != 2 or v.shape[1] != 3 or f.ndim != 2 or f.shape[1] != 3:
            raise BadMesh("A mesh needs vertices of shape (n, 3) and faces of shape (m, 3).")
        if len(f) and (f.min() < 0 or f.max() >= len(v)):
            raise BadMesh("A face names a vertex that is not there.")
        if not np.isfinite(v).all():
            raise BadMesh("A vertex is not a finite number.")
        g = np.zeros(len(f), np.uint8) if groups is None else np.array(groups, dtype=np.uint8)
        if g.shape != (len(f),):
            raise BadMesh("There must be one group for each face.")
        return cls(_locked(v), _locked(f), _locked(g))

    @property
    def triangles(self) -> int:
        return len(self.faces)

    def to_bytes(self) -> bytes:
        """One blob: magic, a JSON header line, then the raw arrays in little-endian order."""
        head = json.dumps({"vertices": len(self.vertices_mm), "faces": len(self.faces)}).encode() + b"\n"
        return b"".join(
            [
                _MAGIC,
                head,
                self.vertices_mm.astype("<f8").tobytes(),
                self.faces.astype("<i4").tobytes(),
                self.groups.tobytes(),
            ]
        )

    @classmethod
    def from_bytes(cls, data: bytes) -> Mesh:
        """Inverse of to_bytes. Raises BadMesh when the blob is damaged."""
        if not data.startswith(_MAGIC):
            raise BadMesh("A stored mesh is damaged.")
        end = data.index(b"\n", len(_MAGIC)) + 1
        head = json.loads(data[len(_MAGIC) : end])
        nv, nf = head["vertices"], head["faces"]
        if len(data) != end + nv * 24 + nf * 13:
            raise BadMesh("A stored mesh is cut short.")
        v = np.frombuffer(data, "<f8", nv * 3, end).reshape(-1, 3)
        f = np.frombuffer(data, "<i4", nf * 3, end + nv * 24).reshape(-1, 3)
        g = np.frombuffer(data, "u1", nf, end + nv * 24 + nf * 12)
        return cls.of(v, f, g)

    @property
    def digest(self) -> str:
        """SHA-256 of the stored form."""
        if "digest" not in self._memo:
            self._memo["digest"] = hashlib.sha256(self.to_bytes()).hexdigest()
        return self._memo["digest"]

    def moved(self, matrix: ArrayLike) -> Mesh:
        """p' = M p for every vertex; a mirroring matrix turns the faces so that they stay outward."""
        m = np.asarray(matrix, dtype=np.float64)
        faces = self.faces[:, ::-1] if np.linalg.det(m[:3, :3]) < 0 else self.faces
        return Mesh.of(self.vertices_mm @ m[:3, :3].T + m[:3, 3], faces, self.groups)

    def turned_inside_out(self) -> Mesh:
        return Mesh.of(self.vertices_mm, self.faces[:, ::-1], self.groups)

    def of_faces(self, keep: ArrayLike) -> Mesh:
        """The faces that the mask or index list names, without the vertices they leave behind."""
        faces = self.faces[np.asarray(keep)]
        used = np.zeros(len(self.vertices_mm), bool)
        used[faces.ravel()] = True
        new = np.cumsum(used) - 1
        return Mesh.of(self.vertices_mm[used], new[faces], self.groups[np.asarray(keep)])
