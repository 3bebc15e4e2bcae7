"""A case is deleted: its bodies go from every plate, from its history, its results and the disk. A plate that was printed keeps hash
and figures of its prints, and where something lay."""

from __future__ import annotations

import json
import re
from datetime import date
from typing import Any

from django.db.models import Q
from django.utils import timezone

from bitecore.platesheet import PlateDocument
from bitecore.platesheet.document import GoneBodies
from runs import changes
from runs.kinds import document_of
from runs.models import Owner, Revision
from runs.owning import let_go, use_blobs
from runs.services import announce, ask_for_work
from runs.store import ServerStore

from .leafing import forget
from .models import Plate


def without_case(number: str) -> set[str]:
    """Within the transaction that deletes the case. Gives the digests to be swept when it is through."""
    said = Q(document__icontains=number) | Q(changes__icontains=number)
    owners = set(Revision.objects.filter(said, owner__plate__isnull=False).values_list("owner_id", flat=True))
    owners |= set(Plate.objects.filter(document__icontains=number).values_list("owner_id", flat=True))
    gone: set[str] = set()
    for plate in Plate.objects.select_for_update().filter(owner_id__in=owners).order_by("pk"):
        if _holds(plate, number):
            gone |= _without(plate, number)
    return gone


def _holds(plate: Plate, number: str) -> bool:
    """Does it, or did it, hold a body of this very case? 2612-10 stands in 2612-100 too."""
    own = re.compile(rf"(?<!\d){re.escape(number)}(?!\d)")
    rows = plate.revisions.values_list("document", "changes", "what").iterator(chunk_size=50)
    return own.search(json.dumps(plate.document)) is not None or any(own.search(json.dumps(row)) for row in rows)


def _without(plate: Plate, number: str) -> set[str]:
    """It goes on under another owner, which has nothing but what is left: so nothing of the case stays in what it ever was."""
    document, before = document_of(plate), plate.owner_id
    left = [b for b in document.bodies if b.case != number]
    printed = plate.prints.exists()
    went = [b for b in document.bodies if b.case == number]
    if went:
        note = GoneBodies(day=date.today().isoformat(), count=len(went), boxes=_boxes(plate, {b.id for b in went}), printed=printed)
        document = document.model_copy(update={"gone": [*document.gone, note]})
    raw = _without_places(document.model_copy(update={"bodies": left}), {b.id for b in left}).model_dump(mode="json")
    owner = Owner.objects.create()
    use_blobs(owner.pk, sorted({digest for b in left for digest in (b.mesh, b.supports, b.veiled) if digest}))
    plate.owner, plate.last_good, plate.working, plate.demanded, plate.wanted = owner, {}, {}, [], timezone.now()
    plate.save()
    changes.write(plate, None, raw, [], "Bodies of a deleted case are gone")
    # What was sent holds its anatomy: the prints keep their figures.
    for row in plate.prints.all():
        row.sent = []
        row.save(update_fields=["sent"])
    forget(plate)
    ask_for_work(plate)
    announce({"plate": str(plate.pk), "kind": "state"})
    return let_go(before)


def _without_places(document: PlateDocument, left: set[str]) -> PlateDocument:
    """Places that a person gave what is gone go too."""
    settings: dict[str, Any] = {step: {at: dict(values) for at, values in own.items()} for step, own in document.settings.items()}
    for values in settings.get("pack", {}).values():
        if isinstance(values.get("places"), dict):
            values["places"] = {ident: at for ident, at in values["places"].items() if ident in left}
    return document.model_copy(update={"settings": settings})


def _boxes(plate: Plate, idents: set[str]) -> list[tuple[float, float, float, float]]:
    """Where they lay, as far as it was worked out."""
    last = ServerStore().known(plate.last_good.values()).get(plate.last_good.get("pack/*", ""))
    places = last.values.get("lies", {}).get("by_piece", {}) if last else {}
    out = []
    for ident in sorted(idents):
        lies = (places.get(ident) or {}).get("json")
        if lies and lies.get("box_mm"):
            low, high = lies["box_mm"]
            out.append((round(low[0], 2), round(low[1], 2), round(high[0] - low[0], 2), round(high[1] - low[1], 2)))
    return out
