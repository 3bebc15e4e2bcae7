"""House parts on the shelf: closed bodies of the lab's own that any case can take up and put on a base."""

from __future__ import annotations

from pathlib import PurePath
from typing import Any

from django.db import transaction

from accounts.services import is_lead
from bitecore.text import plain
from ground.errors import Refused
from runs.models import Owner
from runs.owning import let_go, sweep, take_files, use_blobs

from .blobs import Accepted
from .documents import document_of
from .models import Case, HousePart
from .services import change as change_case
from .services import locked, next_pieces

_LONGEST_NAME = 120


def put(user: Any, files: list[Accepted]) -> list[HousePart]:
    """Bodies on the shelf, called as their files; one that is there already, byte for byte, stays as it is. Only a lead may."""
    lead_only(user)
    out = []
    with transaction.atomic():
        for file in files:
            known = HousePart.objects.filter(sha256=file.sha256).first()
            if known is None:
                owner = Owner.objects.create()
                take_files(owner.pk, [(file.sha256, file.ready)])
                name = PurePath(file.name).stem[:_LONGEST_NAME] or "part"
                known = HousePart.objects.create(owner=owner, sha256=file.sha256, file=file.name, name=name, by=user)
            out.append(known)
    return out


def change(user: Any, ident: int, name: str, face: int, turn_deg: float) -> HousePart:
    """What it is called, and how it stands where a case puts it. Only a lead may."""
    lead_only(user)
    name = plain(name).strip()[:_LONGEST_NAME]
    if not name:
        raise Refused("A house part needs a name.", code="invalid", status=422)
    with transaction.atomic():
        part = _one(ident)
        part.name, part.face, part.turn_deg = name, face, turn_deg
        part.save(update_fields=["name", "face", "turn_deg"])
    return part


def take_off(user: Any, ident: int) -> None:
    """Off the shelf. Cases that have it keep it. Only a lead may."""
    lead_only(user)
    with transaction.atomic():
        part = _one(ident)
        owner = part.owner_id
        part.delete()
        gone = let_go(owner)
    sweep(gone)


def take_up(user: Any, number: str, ident: int) -> Case:
    """A part of the shelf as a file of the case, known as a house part; nothing happens where the case has it."""
    with transaction.atomic():
        case, part = locked(user, number), _one(ident)
        document = document_of(case)
        if any(p.sha256 == part.sha256 for p in document.live):
            return case
        use_blobs(case.owner_id, [part.sha256])
        (entry,) = next_pieces(document, [(part.file, part.sha256)])
        pieces = [p.model_dump(mode="json") for p in (*document.pieces, entry)]
        changed = [(["pieces"], pieces), (["settings", "intake", entry.id, "kind"], "part")]
        return change_case(case, user, case.revision, changed, f"House part {part.name} taken from the shelf")


def _one(ident: int) -> HousePart:
    part = HousePart.objects.select_for_update().filter(pk=ident).first()
    if part is None:
        raise Refused("This house part is not on the shelf any more.", code="no-record", status=404)
    return part


def lead_only(user: Any) -> None:
    if not is_lead(user):
        raise Refused("Only a lead changes what is on the shelves.", code="lead-only", status=403)
