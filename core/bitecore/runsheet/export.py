"""Files out: each body in the chosen frame, named by a pattern, STL and 3MF."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..errors import StepFailed
from ..files import stl, threemf
from ..mesh import Mesh, joined
from ..text import plain
from .part_names import part_of, teeth_of

PLACEHOLDERS = ("number", "patient", "practice", "date", "jaw", "frame", "kind")


@dataclass(frozen=True)
class Body:
    """A mesh in home coordinates and where it goes. home_to_frame : (4, 4), or None when that frame is unknown; name : what it is
    called on screen, no two of a case alike."""

    piece: str
    jaw: str | None
    kind: str
    mesh: Mesh
    home_to_frame: NDArray | None
    name: str = ""

    @property
    def called(self) -> str:
        return self.name or self.word

    @property
    def word(self) -> str:
        """What {jaw} stands for in the name of its file: of what is printed by itself with what it is."""
        part = part_of(self.piece)
        return f"{self.jaw or self.piece}{f' {part}' * bool(part)}"


@dataclass(frozen=True)
class OutFile:
    """A file as it goes out.

    words  : jaw, frame and kind, as they stand in its name
    piece  : whose it is, where it is of one
    ending : .stl or .3mf
    """

    name: str
    data: bytes
    rows: list[dict]
    words: dict[str, str]
    piece: str
    ending: str


def unknown_words(pattern: str) -> list[str]:
    """What stands in braces in a pattern and is no word for a name."""
    return [word for word in re.findall(r"\{(.*?)\}", pattern) if word not in PLACEHOLDERS]


def safe_name(pattern: str, words: Mapping[str, str]) -> str:
    """A file name without ending from a pattern like '{number}_{jaw}'. Raises StepFailed for an unknown word."""
    for word in unknown_words(pattern):
        known = ", ".join("{" + p + "}" for p in PLACEHOLDERS)
        raise StepFailed(f"The name pattern has {{{word}}}, which is not known. Known are {known}.", code="name-pattern")
    name = re.sub(r"\{(.*?)\}", lambda m: words.get(m[1], ""), pattern)
    name = re.sub(r"[^\w.\- ]+", "-", name, flags=re.UNICODE).strip(" .-_")
    return re.sub(r"[-_ ]{2,}", "_", name)[:120] or "model"


def safe_folder(pattern: str, words: Mapping[str, str]) -> str:
    """A path of safe names from a pattern like '{date}/{number}'; empty for an empty pattern."""
    parts = [safe_name(part, words) for part in pattern.replace("\\", "/").split("/") if part.strip(" ./")]
    return "/".join(parts)


def check_pattern(pattern: str) -> str:
    """A pattern that can name files. Raises ValueError with a sentence."""
    unknown = unknown_words(pattern)
    known = ", ".join("{" + p + "}" for p in PLACEHOLDERS)
    if unknown:
        raise ValueError(f"{{{unknown[0]}}} is not known; known are {known}")
    rest = re.sub(r"\{.*?\}", "", pattern)
    if "{" in rest or "}" in rest:
        raise ValueError(f"a brace stands alone; words are written like {known}")
    if plain(pattern) != pattern:
        raise ValueError("it holds characters that no file name can have")
    return pattern


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
            raise StepFailed(f"The place of the {body.called} in {frame} coordinates is not known yet.", code="no-frame")
        placed.append((body, body.mesh.moved(body.home_to_frame)))
    of = [{"jaw": b.word, "frame": frame, "kind": b.kind} for b in bodies]
    everything = {"jaw": "all", "frame": frame, "kind": "all"}
    names = names_of([{**w, "ending": "", "piece": b.piece} for w, b in zip(of, bodies, strict=True)], pattern, words)
    together = safe_name(pattern, {**words, **everything})
    files: list[OutFile] = []
    for (body, mesh), name, own in zip(placed, names, of, strict=True):
        if stl_each:
            files.append(_file(name, ".stl", stl.write_binary(mesh), [body], own))
        if threemf_each:
            files.append(_file(name, ".3mf", threemf.write([(name, mesh)], title=name), [body], own))
    if stl_all and placed:
        whole = joined([mesh for _, mesh in placed])
        files.append(_file(together, ".stl", stl.write_binary(whole), list(bodies), everything))
    if threemf_all and placed:
        pairs = [(name, mesh) for name, (_, mesh) in zip(names, placed, strict=True)]
        files.append(_file(together, ".3mf", threemf.write(pairs, title=together), list(bodies), everything))
    return files


def lies_on_plate(piece: str, jaw: str | None, kind: str, mesh: Mesh, place: Sequence | None) -> Body:
    """A body as it lies on the plate, or its supports; place : rows of its matrix, None where it has none."""
    body = Body(piece, jaw, kind, mesh, None if place is None else np.array(place))
    return replace(body, name=body.word + (" supports" if kind == "supports" else ""))


def plate_file(bodies: Sequence[Body]) -> OutFile:
    """The plate as it will be printed: one item a body, named as on screen. bodies : their places are those on the plate. Raises
    StepFailed where one has none."""
    for body in bodies:
        if body.home_to_frame is None:
            raise StepFailed(f"The {body.called} does not lie on the plate.", code="no-frame")
    pairs = [(b.called, b.mesh.moved(b.home_to_frame)) for b in bodies if b.home_to_frame is not None]
    return _file("plate", ".3mf", threemf.write(pairs, title="plate"), list(bodies), {"jaw": "all", "frame": "plate", "kind": "all"})


def names_of(files: Sequence[Mapping[str, str]], pattern: str, words: Mapping[str, str]) -> list[str]:
    """File names by a pattern (or the file's own), no two alike: files as {jaw, frame, kind, ending, piece, pattern}."""
    out: list[str] = []
    for file in files:
        stem, ending = (
            safe_name(file.get("pattern") or pattern, {**words, **{k: file[k] for k in ("jaw", "frame", "kind")}}),
            file["ending"],
        )
        # A pattern without the jaw would give two files one name.
        tries = [stem, f"{stem}_{file['jaw']}", f"{stem}_{file['jaw']}_{file['piece']}"]
        out.append(next((f"{t}{ending}" for t in tries if f"{t}{ending}" not in out), f"{tries[-1]}_{len(out)}{ending}"))
    return out


def _file(stem: str, ending: str, data: bytes, bodies: list[Body], words: dict[str, str]) -> OutFile:
    sha, name = hashlib.sha256(data).hexdigest(), stem + ending
    rows = [
        {
            "file": name,
            "piece": b.piece,
            "name": b.called,
            "kind": b.kind,
            "jaw": b.jaw,
            "frame": words["frame"],
            "home_to_frame": None if b.home_to_frame is None else np.asarray(b.home_to_frame).tolist(),
            "sha256": sha,
        }
        | ({"teeth": teeth_of(b.piece)} if b.kind == "die" else {})
        for b in bodies
    ]
    return OutFile(name, data, rows, words, bodies[0].piece if len(bodies) == 1 else "", ending)
