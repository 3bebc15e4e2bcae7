"""The mesh that every step takes and gives: frozen arrays, millimetres, outward counter-clockwise."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from ..errors import BadMesh

# What a face is made of, kept through all steps so that the tooth surface can be told from what was added.
GROUP_SCAN = 0
GROUP_PATCH = 1
GROUP_CUT = 2

# A face that no scan has.
MADE = -1

_MAGIC, _BEFORE_SOURCES = b"BBMESH2\n", b"BBMESH1\n"


def _locked(array: NDArray) -> NDArray:
    array.setflags(write=False)
    return array


@dataclass(frozen=True, eq=False)
class Channel:
    """A number at every vertex, beside the surface: what the stage draws as a map.

    name   : what is measured
    unit   : of the values
    reach  : what is beyond is not told apart any more, on either side of nought
    values : (n,) float32, NaN where nothing is known
    ends   : where the colours end, on either side; 0: at the reach
    """

    name: str
    unit: str
    reach: float
    values: NDArray[np.float32]
    ends: float = 0.0


@dataclass(frozen=True, eq=False)
class Mesh:
    """A surface. The arrays are copied in, checked and locked. Vertices that no face uses are allowed.

    vertices_mm : (n, 3) float64
    faces       : (m, 3) int32
    groups      : (m,) uint8, one of GROUP_*: what each face is made of
    source      : (m,) int32, the face of the scan that each face came from; MADE for the others. What is known of the scan's
                  faces (`labels`, one a face) is known of these as `labels[source]`
    channel     : a number at every vertex, or None
    """

    vertices_mm: NDArray[np.float64]
    faces: NDArray[np.int32]
    groups: NDArray[np.uint8]
    source: NDArray[np.int32]
    channel: Channel | None = None
    _memo: dict = field(default_factory=dict, repr=False)

    @classmethod
    def of(
        cls,
        vertices_mm: ArrayLike,
        faces: ArrayLike,
        groups: ArrayLike | None = None,
        source: ArrayLike | None = None,
        channel: Channel | None = None,
    ) -> Mesh:
        """Checked copy of the arrays; without a source every face is made. Raises BadMesh for wrong shapes, indices or
        numbers that are not finite."""
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
        s = np.full(len(f), MADE, np.int32) if source is None else np.array(source, dtype=np.int32)
        if g.shape != (len(f),) or s.shape != (len(f),):
            raise BadMesh("There must be one group and one source for each face.")
        if channel is not None:
            numbers = np.array(channel.values, dtype=np.float32)
            if numbers.shape != (len(v),):
                raise BadMesh("A channel has one number for each vertex.")
            channel = replace(channel, reach=float(channel.reach), values=_locked(numbers))
        return cls(_locked(v), _locked(f), _locked(g), _locked(s), channel)

    @property
    def triangles(self) -> int:
        return len(self.faces)

    def as_scan(self) -> Mesh:
        """The same surface as the scan that others come from: every face is its own source."""
        return Mesh.of(self.vertices_mm, self.faces, self.groups, np.arange(self.triangles), self.channel)

    def with_vertices(self, vertices_mm: ArrayLike) -> Mesh:
        """The same faces over other places of the same vertices."""
        return Mesh.of(vertices_mm, self.faces, self.groups, self.source, self.channel)

    def with_faces(self, faces: ArrayLike) -> Mesh:
        """Each face with other corners, or in another order of them."""
        return Mesh.of(self.vertices_mm, faces, self.groups, self.source, self.channel)

    def with_channel(self, name: str, unit: str, reach: float, values: ArrayLike, *, ends: float = 0.0) -> Mesh:
        channel = Channel(name, unit, reach, np.asarray(values, np.float32), ends)
        return Mesh.of(self.vertices_mm, self.faces, self.groups, self.source, channel)

    def plus(self, vertices_mm: ArrayLike, faces: ArrayLike, group: int) -> Mesh:
        """With more vertices behind its own and made faces of one group behind its own."""
        more = np.asarray(faces, np.int32).reshape(-1, 3)
        return Mesh.of(
            np.vstack([self.vertices_mm, np.asarray(vertices_mm, np.float64).reshape(-1, 3)]),
            np.vstack([self.faces, more]),
            np.r_[self.groups, np.full(len(more), group, np.uint8)],
            np.r_[self.source, np.full(len(more), MADE, np.int32)],
        )

    def to_bytes(self) -> bytes:
        """One blob: magic, a JSON header line, then the raw arrays in little-endian order."""
        head: dict = {"vertices": len(self.vertices_mm), "faces": len(self.faces)}
        arrays = [self.vertices_mm.astype("<f8"), self.faces.astype("<i4"), self.source.astype("<i4"), self.groups]
        if self.channel is not None:
            head["channel"] = {key: getattr(self.channel, key) for key in ("name", "unit", "reach", "ends")}
            arrays.append(self.channel.values.astype("<f4"))
        return b"".join([_MAGIC, json.dumps(head).encode() + b"\n", *(a.tobytes() for a in arrays)])

    @classmethod
    def from_bytes(cls, data: bytes) -> Mesh:
        """Inverse of to_bytes, also of the form before there were sources. Raises BadMesh when the blob is damaged."""
        if not data.startswith((_MAGIC, _BEFORE_SOURCES)):
            raise BadMesh("A stored mesh is damaged.")
        end = data.index(b"\n", len(_MAGIC)) + 1
        head = json.loads(data[len(_MAGIC) : end])
        nv, nf, channel = head["vertices"], head["faces"], head.get("channel")
        sourced = data.startswith(_MAGIC)
        sizes = [24 * nv, 12 * nf, 4 * nf if sourced else 0, nf, 4 * nv if channel else 0]
        at = np.cumsum([end, *sizes])
        if len(data) != at[-1]:
            raise BadMesh("A stored mesh is cut short.")
        v = np.frombuffer(data, "<f8", nv * 3, at[0]).reshape(-1, 3)
        f = np.frombuffer(data, "<i4", nf * 3, at[1]).reshape(-1, 3)
        s = np.frombuffer(data, "<i4", nf, at[2]) if sourced else None
        g = np.frombuffer(data, "u1", nf, at[3])
        known = Channel(**channel, values=np.frombuffer(data, "<f4", nv, at[4])) if channel else None
        return cls.of(v, f, g, s, known)

    @property
    def digest(self) -> str:
        """SHA-256 of the stored form."""
        if "digest" not in self._memo:
            self._memo["digest"] = hashlib.sha256(self.to_bytes()).hexdigest()
        return self._memo["digest"]

    def moved(self, matrix: ArrayLike) -> Mesh:
        """p' = M p for every vertex; a mirroring matrix turns the faces so that they stay outward."""
        m = np.asarray(matrix, dtype=np.float64)
        placed = self.with_vertices(self.vertices_mm @ m[:3, :3].T + m[:3, 3])
        return placed.turned_inside_out() if np.linalg.det(m[:3, :3]) < 0 else placed

    def turned_inside_out(self) -> Mesh:
        return self.with_faces(self.faces[:, ::-1])

    def of_faces(self, keep: ArrayLike) -> Mesh:
        """The faces that the mask or index list names, without the vertices they leave behind."""
        which = np.asarray(keep)
        faces = self.faces[which]
        used = np.zeros(len(self.vertices_mm), bool)
        used[faces.ravel()] = True
        new = np.cumsum(used) - 1
        channel = self.channel
        if channel is not None:
            channel = replace(channel, values=channel.values[used])
        return Mesh.of(self.vertices_mm[used], new[faces], self.groups[which], self.source[which], channel)


def joined(meshes: Sequence[Mesh]) -> Mesh:
    """All in one, each a piece of its own."""
    start = np.cumsum([0] + [len(m.vertices_mm) for m in meshes])
    return Mesh.of(
        np.vstack([m.vertices_mm for m in meshes]),
        np.vstack([m.faces + s for m, s in zip(meshes, start, strict=False)]),
        np.concatenate([m.groups for m in meshes]),
        np.concatenate([m.source for m in meshes]),
    )
