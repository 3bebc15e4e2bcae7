"""Files out: each body in the chosen frame, named by a pattern, STL and 3MF."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import StepFailed
from ..files import stl, threemf
from ..mesh import Mesh

PLACEHOLDERS = ("number", "patient", "practice", "date", "jaw", "frame", "kind")


@dataclass(frozen=True)
class Body:
    """A mesh in home coordinates and where it goes. home_to_frame : (4, 4), or None when that frame is unknown."""

    piece: str
    jaw: str | None
    kind: str
    mesh: Mesh
    home_to_frame: NDArray | None


@dataclass(frozen=True)
class OutFile:
    name: str
    data: bytes
    rows: list[dict]


def safe_name(pattern: str, words: Mapping[str, str]) -> str:
    """A file name without ending from a pattern like '{number}_{jaw}'. Raises StepFailed for an unknown word."""
    for word in re.findall(r"\{(.*?)\}", pattern):
        if word not in PLACEHOLDERS:
            known = ", ".join("{" + p + "}" for p in PLACEHOLDERS)
            raise StepFailed(f"The name pattern has {{{word}}}, which is not known. Known are {known}.", code="name-pattern")
    name = re.sub(r"\{(.*?)\}", lambda m: words.get(m[1], ""), pattern)
    name = re.sub(r"[^\w.\- ]+", "-", name, flags=re.UNICODE).strip(" .-_")
    return re.sub(r"[-_ ]{2,}", "_", name)[:120] or "model"


def safe_folder(pattern: str, words: Mapping[str, str]) -> str:
    """A path of safe names from a pattern like '{date}/{number}'; empty for an empty pattern."""
    parts = [safe_name(part, words) for part in pattern.replace("\\", "/").split("/") if part.strip(" ./")]
    return "/".join(parts)


def export(
    bodies: Sequence[Body],
    *,
    frame: str,
    pattern: str,
    words: Mapping[str, str],
    stl_each: bool = True,
    stl_all: bool = False,
    threemf_each: bool = False,
    threemf_all: bool = True,
) -> list[OutFile]:
    """The files asked for. Raises StepFailed when a body's place in the frame is unknown."""
    placed: list[tuple[Body, Mesh]] = []
    for body in bodies:
        if body.home_to_frame is None:
            raise StepFailed(f"The place of the {body.jaw or body.piece} in {frame} coordinates is not known yet.", code="no-frame")
        placed.append((body, body.mesh.moved(body.home_to_frame)))
    names = _names(bodies, frame, pattern, words)
    together = safe_name(pattern, {**words, "jaw": "all", "frame": frame, "kind": "all"})
    files: list[OutFile] = []
    for (body, mesh), name in zip(placed, names, strict=True):
        if stl_each:
            files.append(_file(f"{name}.stl", stl.write_binary(mesh), [body], frame))
        if threemf_each:
            files.append(_file(f"{name}.3mf", threemf.write([(name, mesh)], title=name), [body], frame))
    if stl_all and placed:
        whole = joined([mesh for _, mesh in placed])
        files.append(_file(f"{together}.stl", stl.write_binary(whole), list(bodies), frame))
    if threemf_all and placed:
        pairs = [(name, mesh) for name, (_, mesh) in zip(names, placed, strict=True)]
        files.append(_file(f"{together}.3mf", threemf.write(pairs, title=together), list(bodies), frame))
    return files


def _names(bodies: Sequence[Body], frame: str, pattern: str, words: Mapping[str, str]) -> list[str]:
    out: list[str] = []
    for body in bodies:
        name = safe_name(pattern, {**words, "jaw": body.jaw or body.piece, "frame": frame, "kind": body.kind})
        # A pattern without the jaw would give two files one name.
        out.append(name if name not in out else f"{name}_{body.jaw or body.piece}")
    return out


def joined(meshes: list[Mesh]) -> Mesh:
    """All in one, each a piece of its own."""
    start = np.cumsum([0] + [len(m.vertices_mm) for m in meshes])
    return Mesh.of(
        np.vstack([m.vertices_mm for m in meshes]),
        np.vstack([m.faces + s for m, s in zip(meshes, start, strict=False)]),
        np.concatenate([m.groups for m in meshes]),
    )


def _file(name: str, data: bytes, bodies: list[Body], frame: str) -> OutFile:
    sha = hashlib.sha256(data).hexdigest()
    rows = [
        {
            "file": name,
            "piece": b.piece,
            "kind": b.kind,
            "jaw": b.jaw,
            "frame": frame,
            "home_to_frame": None if b.home_to_frame is None else np.asarray(b.home_to_frame).tolist(),
            "sha256": sha,
        }
        for b in bodies
    ]
    return OutFile(name, data, rows)
