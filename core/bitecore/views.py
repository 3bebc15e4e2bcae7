"""What the stage and the rack show of a mesh: GLB with shade, a light copy, and still pictures."""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import meshopt
import numpy as np

from .blobs import FolderBlobs
from .files import Limits, read_mesh
from .files import glb as glb_file
from .mesh import Mesh
from .mesh.mapped import coded, scale_of
from .ops.crease import creased, of_walls
from .ops.mend import largest_piece
from .ops.picture import picture, turntable
from .ops.relief import plaster_shade
from .ops.weld import weld
from .progress import Run

# Part of the path of every view. Raised when what is drawn of the same mesh changes: browsers keep a view for ever by its
# address, and the worker makes those of an older look anew.
VERSION = 8
_LIGHT_CELLS = 64


@dataclass(frozen=True)
class ViewJob:
    """A view that is to be made.

    kind   : early (of one scan file, in the file's own units: a light copy, then beside it all of it), full (of one mesh
             digest), picture (of several, each with its matrix) or turn (of one with its matrix, once around)
    to     : where it goes
    urgent : before any step, for someone looks at an empty stage
    """

    kind: str
    meshes: tuple[tuple[str, Any], ...]
    to: str
    urgent: bool = False


def make_view(job: ViewJob, blobs: FolderBlobs, run: Run) -> str:
    """Write the view's file and return its path. Cheap to ask twice: an existing file is kept."""
    path = Path(job.to)
    if job.kind == "early":
        _early(blobs.read(job.meshes[0][0]), path, run)
    elif not path.exists():
        # A copy for looking at can be made again: it need not be on the disk at once.
        FolderBlobs.write_as(path, _late(job, blobs, run), durable=False)
    return job.to


def _early(data: bytes, light: Path, run: Run) -> None:
    """The first sight of a scan, before anything is known of it: a light copy, and then the surface as it is.

    Where Intake changes nothing (the file is in millimetres and faces outwards) the same copy serves its mesh too.
    """
    full = early_full(light)
    if full.exists() and light.exists():
        return
    mesh = weld(read_mesh("the scan", data, Limits(triangles=10**9)).points).mesh
    FolderBlobs.write_as(light, glb(mesh, light=True), durable=False)
    run.tick(0.3, "a copy to look at")
    root, digest = light.parents[2], mesh.digest
    same = view_path(root, digest, "full")
    FolderBlobs.write_as(same, glb(mesh), durable=False)
    full.parent.mkdir(parents=True, exist_ok=True)
    with contextlib.suppress(FileExistsError):
        os.link(same, full)


def early_full(light: Path) -> Path:
    return light.with_name(light.name.replace(".light.", ".full."))


def _late(job: ViewJob, blobs: FolderBlobs, run: Run) -> bytes:
    loaded = [(Mesh.from_bytes(blobs.read(d)), np.eye(4) if m is None else np.array(m)) for d, m in job.meshes]
    run.tick(0.3, "picture")
    if job.kind == "turn":
        mesh, matrix = loaded[0]
        return turntable(lighter(largest_piece(mesh)), matrix)
    return picture(loaded) if job.kind == "picture" else glb(loaded[0][0])


def view_path(root: Path, digest: str, kind: str) -> Path:
    return root / f"v{VERSION}" / digest[:2] / f"{digest}.{kind}.glb"


def views_of(root: Path, digest: str) -> list[Path]:
    """Every file that shows a mesh or a scan, of this look and of older ones; of a scan also the copy that serves its mesh."""
    found = list(Path(root).glob(f"v*/{digest[:2]}/{digest}.*.glb"))
    for path in [p for p in found if p.name.endswith(".full.glb") and p.stat().st_nlink > 1]:
        found += [p for p in Path(root).glob(f"{path.parents[1].name}/*/*.full.glb") if p != path and p.samefile(path)]
    return found


def glb(mesh: Mesh, *, light: bool = False) -> bytes:
    """GLB in home coordinates about the middle of the box (extras.origin_mm): float32 keeps its digits there.
    extras.digest says which mesh it shows."""
    digest = mesh.digest
    if light:
        mesh = lighter(mesh)
    split = creased(mesh)
    shade = plaster_shade(mesh)[split.source]
    # Walls and floors are flat: their few far-apart vertices say nothing about fissures.
    shade[split.faces[of_walls(mesh)].ravel()] = 1.0
    order = _ordered(split.faces, len(split.source))
    low, high = mesh.vertices_mm.min(0), mesh.vertices_mm.max(0)
    origin = np.round((low + high) / 2, 3)
    source = split.source[order.vertex]
    grey = np.clip(shade[order.vertex] * 230, 0, 255).astype(np.uint8)
    # Red is the shade; of a map, green is the distance in its code and alpha says whether it is known.
    green, known = grey, np.ones(len(grey), bool)
    shown = None
    if mesh.channel is not None:
        shown = scale_of(mesh.channel)
        green, known = coded(mesh.channel, shown)
        green, known = green[source], known[source]
    colours = np.stack([grey, green, grey, np.where(known, 255, 0).astype(np.uint8)], axis=1)
    return glb_file.write(
        mesh.vertices_mm[source] - origin,
        split.normals[order.vertex],
        colours,
        order.faces,
        extras={"origin_mm": origin.tolist(), "triangles": mesh.triangles, "light": light, "digest": digest}
        | ({"channel": shown} if shown else {}),
    )


@dataclass(frozen=True)
class _Drawn:
    vertex: np.ndarray
    faces: np.ndarray


def _ordered(faces: np.ndarray, n: int) -> _Drawn:
    """Vertex order for the graphics cache and the codec."""
    new, remap, count = meshopt.reorder_mesh(np.ascontiguousarray(faces, "<u4"), True, True)
    vertex = np.zeros(count, np.int64)
    used = remap != 0xFFFFFFFF
    vertex[remap[used]] = np.flatnonzero(used)
    return _Drawn(vertex, np.asarray(new).reshape(-1, 3))


def lighter(mesh: Mesh) -> Mesh:
    """A quick coarse copy by clustering vertices on a grid: for the first second on the stage, never for files."""
    low = mesh.vertices_mm.min(0)
    cell = max(float((mesh.vertices_mm.max(0) - low).max()) / _LIGHT_CELLS, 1e-9)
    q = ((mesh.vertices_mm - low) / cell).astype(np.int64)
    _, inverse = np.unique((q[:, 0] << 40) | (q[:, 1] << 20) | q[:, 2], return_inverse=True)
    count = np.bincount(inverse)
    middle = np.stack([np.bincount(inverse, mesh.vertices_mm[:, k]) / count for k in range(3)], axis=1)
    faces = inverse[mesh.faces]
    good = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    if not good.any():
        return mesh
    return Mesh.of(middle, faces[good], mesh.groups[good], mesh.source[good])
