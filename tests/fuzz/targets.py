"""What is fuzzed, each a function of bytes that may raise nothing: a refusal has to be a sentence."""

from __future__ import annotations

import io
import json
import shutil
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path

import trimesh

from bitecore.errors import UnreadableFile
from bitecore.files import Limits, glb, obj_write, ply, read_mesh, stl, threemf, unpack
from tests.broken import BROKEN
from tests.hostile import HOSTILE
from tests.shapes import sphere

# Small, so that what counts promises is reached by small files.
LIMITS = Limits(triangles=20_000, drop_bytes=5_000_000, files=20)


class NoSentence(Exception):
    """A refusal that does not read like one."""


def _judged(do: Callable[[], object]) -> bool:
    try:
        do()
    except UnreadableFile as error:
        if not error.message.endswith(".") or len(error.message) < 20 or not error.code:
            raise NoSentence(error.message) from error
        return False
    return True


def scan(data: bytes) -> bool:
    """Any one file, whatever it is."""
    return _judged(lambda: read_mesh("a scan", data, LIMITS))


def archive(data: bytes) -> bool:
    """A ZIP of scans."""
    return _judged(lambda: [read_mesh(s.name, s.data, LIMITS) for s in unpack("a.zip", data, LIMITS)])


def model(data: bytes) -> bool:
    """The model part of a 3MF, in a sound package."""
    return scan(_zip({"[Content_Types].xml": b"<Types/>", "3D/a.model": data}))


def case_index(data: bytes) -> bool:
    """The index of a case that was carried here, in a sound ZIP with its scan."""
    from cases.carried import MARK

    return case_zip(_zip({MARK: data, "scans/a.stl": _SCAN}))


def case_zip(data: bytes) -> bool:
    from cases import carried

    folder = Path(tempfile.mkdtemp())
    try:
        path = folder / "case.zip"
        path.write_bytes(data)
        # As in its child process, without the child: the fuzzer watches time and memory itself.
        found = carried._opened("case.zip", path, folder, LIMITS)
        return found is not None
    except UnreadableFile as error:
        if not error.message.endswith("."):
            raise NoSentence(error.message) from error
        return False
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def mark(data: bytes) -> bool:
    """A drawing for a house mark, as in its child process."""
    from bitecore.parts.shelf import checked

    return _judged(lambda: checked("mark", {"outline": data.decode("utf-8", "replace")}))


def printer(data: bytes) -> bool:
    """What a printer answers to how it stands, or to a job: believed only in form, so that it can be kept and shown."""
    from bays import printers
    from bays.heard import Job, Status

    good = False
    for model in (Status, Job):
        try:
            found = printers._formed(model, printers._json(data))
        except printers.OddAnswer:
            continue
        text = json.dumps(found.model_dump(mode="json"), allow_nan=False)
        if "\\u0000" in text:
            raise NoSentence("PostgreSQL keeps no NUL")
        good = True
    return good


def _zip(members: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        for name, data in members.items():
            package.writestr(name, data)
    return out.getvalue()


_BALL = sphere(5.0, 4)
_SCAN = stl.write_binary(_BALL)


def _index() -> bytes:
    import hashlib

    piece = {"id": "p1", "file": "a.stl", "sha256": hashlib.sha256(_SCAN).hexdigest(), "drop": 0}
    document = {
        "number": "2611-01", "opened": "2026-11-27", "patient": "Bo Ek", "teeth": "14 15", "pieces": [piece],
        "settings": {"base": {"*": {"thickness_mm": 3.0}}, "trim": {"p1": {"ease_mm": 1.0}}}, "versions": {"base": 1},
        "accepted": ["intake"], "house": {}, "house_versions": {}, "house_revision": 0,
    }  # fmt: skip
    row = {"number": 1, "document": document, "changes": [], "what": "Case opened with ⟦p1⟧", "kind": "change", "takes_back": None}
    row |= {"who": "Mira Tallow", "at": "2026-11-27T10:00:00+00:00"}
    change = {"path": ["settings", "base", "*", "thickness_mm"], "before": {"absent": True}, "after": 3.0}
    undo = {**row, "number": 2, "kind": "undo", "takes_back": 1, "changes": [change]}
    return json.dumps({"format": 2, "number": "2611-01", "revisions": [row, undo]}).encode()


def _scans() -> list[bytes]:
    theirs = trimesh.Trimesh(_BALL.vertices_mm, _BALL.faces, process=False)
    ours = [_SCAN, stl.write_ascii(_BALL), ply.write(_BALL), obj_write.write(_BALL), threemf.write([("a", _BALL)])]
    packed = glb.write(_BALL.vertices_mm, _BALL.vertices_mm / 5, _BALL.vertices_mm[:, [0, 1, 2, 0]].astype("u1"), _BALL.faces)
    others = [theirs.export(file_type=kind) for kind in ("glb", "obj", "3mf")]
    others += [theirs.export(file_type="ply", encoding="ascii")]
    small = [data for data in [*BROKEN.values(), *HOSTILE.values()] if len(data) < 12_000]
    return [*ours, packed, *(d.encode() if isinstance(d, str) else d for d in others), *small]


def _model() -> bytes:
    with zipfile.ZipFile(io.BytesIO(threemf.write([("a", _BALL)]))) as package:
        return package.read("3D/3dmodel.model")


# name: (function, seeds, longest input)
TARGETS: dict[str, tuple[Callable[[bytes], bool], Callable[[], list[bytes]], int]] = {
    "scan": (scan, _scans, 12_000),
    "zip": (archive, lambda: [_zip({"u.stl": _SCAN, "x/l.ply": ply.write(_BALL)}), _zip({"a.obj": obj_write.write(_BALL)})], 12_000),
    "3mf-model": (model, lambda: [_model()], 8_000),
    "case-index": (case_index, lambda: [_index()], 8_000),
    "case-zip": (case_zip, lambda: [_zip({"bite-bench-case.json": _index(), "scans/a.stl": _SCAN})], 12_000),
}
_STATUS = {"format": 1, "name": "Heron", "state": "printing", "fault": "", "says": "", "resin_ml": 91.5, "stand_in": True}
_JOB = {"name": "2612-01_1", "sha256": "0" * 64, "bytes": 9, "state": "printing", "layer": 3, "layers": 9, "seconds_left": 4.5, "speed": 60}
_SVG = '<svg xmlns="http://www.w3.org/2000/svg">{}</svg>'
_DRAWN = (
    '<path d="M 0 0 L 10 0 L 5 9 Z"/>', '<g transform="rotate(30 5 5)"><rect x="1" y="2" width="8" height="4" rx="1" fill="#fff"/></g>',
    '<circle cx="5" cy="5" r="4"/><ellipse cx="5" cy="5" rx="2" ry="1" style="fill:white"/>',
    '<polygon points="0,0 9,1 4,8" fill-rule="evenodd"/>',
    '<path d="M1 1c2 2 4 4 8 0s3-3 5 0q1 9-4 4t-3-2a3 4 20 1 0 2 2z"/>',
)  # fmt: skip
TARGETS |= {
    "mark": (mark, lambda: [_SVG.format(drawn).encode() for drawn in _DRAWN], 6_000),
    "printer": (printer, lambda: [json.dumps(said).encode() for said in ({**_STATUS, "job": _JOB, "jobs": [_JOB]}, _JOB)], 4_000),
}
WORDS = [
    "solid", "facet", "endsolid", "vertex", "ply\n", "element vertex ", "element face ", "property list uchar int v\n", "end_header\n",
    "format ascii 1.0\n", "v ", "f ", "nan", "1e999", "99999999999", "-1", "glTF", "JSON", "PK", "<vertex ", "<triangle ", "<component ",
    "revisions", "document", "sha256", "pieces", "takes_back", "null", "NaN", "\\\\u0000", "\\\\ud800", "jobs",
    "seconds_left", "<path d=", "<g transform=", "matrix(", "fill-rule", "evenodd", "M 1e99 0 L",
]  # fmt: skip
