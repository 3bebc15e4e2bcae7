"""Pieces made of pieces: what was marked split off, a copy, a bite impression taken apart; each comes in as a scan of its own."""

from __future__ import annotations

import hashlib
from typing import Any

from django.db import transaction

from bitecore.anatomy.two_sides import two_sides
from bitecore.engine.gives import unpack
from bitecore.errors import StepFailed
from bitecore.files import stl
from bitecore.mesh import Mesh
from bitecore.runsheet import PieceEntry
from ground.errors import Refused
from runs.owning import take_bytes
from runs.services import look
from runs.store import ServerStore

from .choices import live
from .documents import document_of
from .models import Case
from .names import token
from .services import change, locked, next_pieces

_MOST_PIECES = 60


def split_off(user: Any, number: str, base: int, piece: str) -> Case:
    """What is marked on a jaw, as a piece of its own. It goes from the jaw, as marks do."""
    with transaction.atomic():
        case = locked(user, number)
        entry = live(case, piece)
        off = _mesh(case, "marked", piece, "off", "Nothing is marked on this jaw. Mark with the fence or the swab what is to be split off.")
        if off.triangles == 0:
            raise Refused("Nothing is marked on this jaw.", code="no-marks", status=409)
        what = f"Split off from {token(entry.id)}"
        return _with(case, user, base, [(f"{_stem(entry)} split off.stl", off, {"kind": "other"})], what)


def copied(user: Any, number: str, base: int, piece: str) -> Case:
    """The same scan once more, with the settings that were made for it."""
    with transaction.atomic():
        case = locked(user, number)
        entry, document = live(case, piece), document_of(case)
        (fresh,) = next_pieces(document, [(entry.file, entry.sha256)])
        settings = [
            (["settings", step, fresh.id], own[piece]) for step, own in document.settings.items() if step != "intake" and piece in own
        ]
        intake = {**document.settings.get("intake", {}).get(piece, {}), "kind": "other"}
        pieces = [p.model_dump() for p in (*document.pieces, fresh)]
        changed = [(["pieces"], pieces), (["settings", "intake", fresh.id], intake), *settings]
        return change(case, user, base, changed, f"A copy of {token(entry.id)}")


def taken_apart(user: Any, number: str, base: int, piece: str) -> Case:
    """A bite impression into the two jaws it is a negative of. They stay where they are to each other: that is the bite."""
    with transaction.atomic():
        case = locked(user, number)
        entry = live(case, piece)
        mesh = _mesh(case, "intake", piece, "mesh", "This scan is not looked at yet. Try again in a moment.")
        node = look(case).node("intake", piece)
        assert node is not None
        try:
            above, below = two_sides(mesh, node.json("about")["up"])
        except StepFailed as error:
            raise Refused(error.message, code=error.code, status=409) from error
        # Which of them is the upper, Intake tells from both: the tray itself may lie either way up.
        made = [
            (f"{_stem(entry)} {name}.stl", side.turned_inside_out(), {"kind": "jaw", "inside": "keep"})
            for name, side in (("one side", above), ("other side", below))
        ]
        more = [(["settings", "bite", "*", "source"], "as they came"), (["settings", "intake", entry.id, "kind"], "impression")]
        return _with(case, user, base, made, f"{token(entry.id)} taken apart", more)


def _mesh(case: Case, step: str, piece: str, value: str, otherwise: str) -> Mesh:
    node = look(case).node(step, piece)
    if node is None or node.manifest is None or node.manifest.stopped or value not in node.manifest.values:
        raise Refused(otherwise, code="not-ready", status=409)
    mesh: Mesh = unpack(node.manifest.values[value], ServerStore().blobs)
    return mesh


def _stem(entry: PieceEntry) -> str:
    return entry.file.rsplit("/", 1)[-1].rsplit(".", 1)[0][:200]


def _with(
    case: Case,
    user: Any,
    base: int,
    made: list[tuple[str, Mesh, dict[str, str]]],
    what: str,
    more: list[tuple[list[str], Any]] | None = None,
) -> Case:
    document = document_of(case)
    if len(document.pieces) + len(made) > _MOST_PIECES:
        raise Refused(f"A case holds up to {_MOST_PIECES} scans. Put some aside first.", code="too-many", status=409)
    files = {hashlib.sha256(data).hexdigest(): data for data in (stl.write_binary(mesh, title="Bite Bench") for _, mesh, _ in made)}
    take_bytes(case.owner_id, files)
    fresh = next_pieces(document, [(name, digest) for (name, _, _), digest in zip(made, files, strict=True)])
    pieces = [p.model_dump() for p in (*document.pieces, *fresh)]
    settings = [(["settings", "intake", p.id], intake) for p, (_, _, intake) in zip(fresh, made, strict=True)]
    return change(case, user, base, [(["pieces"], pieces), *settings, *(more or [])], what)
