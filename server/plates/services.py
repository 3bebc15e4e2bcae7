"""What can be done with a plate. A body is pinned as it is when it is put there: its case may go on, or go."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import Any

from django.db import transaction
from django.utils import timezone

from accounts.services import is_lead
from bitecore.engine.document import Layer
from bitecore.parts.shelf import Printer
from bitecore.platesheet import PLATE, PlateBody, PlateDocument
from bitecore.text import plain
from cases import services as cases
from ground.errors import Refused
from house.services import newest
from house.shelves import on
from runs import changes
from runs.kinds import document_of
from runs.models import Owner
from runs.owning import BlobsGone, let_go, sweep, use_blobs
from runs.records import as_they_are_now, with_records
from runs.services import announce, ask_for_work, look
from runs.settings import settings_changed

from . import shelf
from .filling import taken
from .models import Plate
from .pinning import pinned
from .strips import pinned_strips

_MOST_BODIES = 200
# States of a print that is not at its end (see bays/models.py).
OPEN_PRINTS = ("waiting", "sending", "arrived", "printing", "paused", "stopped")
_FROM_HOUSE = ("printer", "resin", "layer_mm", "gap_mm", "margin_mm")


def visible(user: Any, ident: int) -> Plate:
    plate = Plate.objects.visible_to(user).filter(pk=ident).first()
    if plate is None:
        raise Refused("There is no such plate.", code="no-plate", status=404)
    return plate


@transaction.atomic
def create(user: Any, name: str, printer: str = "", *, filled: bool = False) -> Plate:
    """filled : at once, as fill does; where nothing is ready none is begun."""
    if printer and printer not in on("printer"):
        raise Refused("This printer is not on the shelf of the house.", code="no-printer", status=422)
    plate = Plate.objects.create(owner=Owner.objects.create(), wanted=timezone.now())
    house = newest()
    # The house says once on what its models are printed, and how.
    said = house.steps.get("plate", {})
    steps = {"pack": {key: said[key] for key in _FROM_HOUSE if key in said}}
    own = {"pack": {"*": {"printer": printer}}} if printer else {}
    document = PlateDocument(name=plain(name).strip()[:120], settings=own, layers={"house": Layer(revision=house.number, steps=steps)})
    document = with_records(PLATE.registry, document)
    changes.write(plate, user, document.model_dump(mode="json"), [], "Plate begun")
    ask_for_work(plate)
    return fill(user, plate.pk, plate.revision) if filled else plate


def delete(user: Any, ident: int) -> None:
    """Gone for good, with what it was worked out to; the bodies stay in their cases. What was printed is kept to be printed again; only
    a lead deletes it."""
    with transaction.atomic():
        plate = locked(user, ident)
        if plate.prints.exists() and not is_lead(user):
            text = "This plate was printed: it is kept so that it can be printed again. Only a lead deletes it."
            raise Refused(text, code="was-printed", status=403)
        if plate.prints.filter(state__in=OPEN_PRINTS).exists():
            raise Refused("This plate is at a printer: cancel its print first.", code="at-printer", status=409)
        owner = plate.owner_id
        plate.delete()
        gone = let_go(owner)
        announce({"plate": str(ident), "kind": "gone"})
    sweep(gone)


def rename(user: Any, ident: int, base: int, name: str) -> Plate:
    with transaction.atomic():
        plate = locked(user, ident)
        changes.change(plate, user, base, [(["name"], plain(name).strip()[:120])], "Name of the plate", _hooks(plate))
        return plate


def put(user: Any, ident: int, base: int, number: str, addresses: Sequence[str], count: int = 1) -> Plate:
    """Put bodies of a case on the plate as they are now, so many of each; of no case: strips of the house. Whatever others did to it
    meanwhile: nothing of theirs is in the way of that."""
    with transaction.atomic():
        plate = locked(user, ident)
        _not_more(document_of(plate), len(addresses) * count)
        wanted = [address for address in addresses for _ in range(count)]
        if number:
            case = cases.visible(user, number)
            graph = look(case)
            ones = [pinned(case, address, graph=graph) for address in wanted]
        else:
            ones = pinned_strips(plate.owner_id, wanted)
        document = document_of(plate)
        bodies = [*document.bodies, *_numbered(document, ones)]
        _use(plate, bodies)
        names = ", ".join(dict.fromkeys(b.called for b in bodies[len(document.bodies) :]))
        return _change(plate, user, max(base, plate.revision), bodies, f"Put on: {names}")


def _not_more(document: PlateDocument, count: int) -> None:
    """Asked before anything is done for them."""
    if len(document.bodies) + count > _MOST_BODIES:
        raise Refused(f"A plate takes up to {_MOST_BODIES} bodies.", code="too-many", status=409)


def _numbered(document: PlateDocument, ones: Sequence[dict[str, Any]]) -> list[PlateBody]:
    _not_more(document, len(ones))
    last = max((int(b.id[1:]) for b in document.bodies), default=0)
    rows = {(b.kit, b.address) for b in document.bodies}
    out = []
    for k, one in enumerate(ones, 1):
        # Where it stands in its row, one stands already.
        again = (one["kit"], one["address"]) in rows
        rows.add((one["kit"], one["address"]))
        out.append(PlateBody(id=f"b{last + k}", **(one | ({"kit": ""} if again else {}))))
    return out


def _use(plate: Plate, bodies: Sequence[PlateBody]) -> None:
    digests = {digest for body in bodies for digest in (body.mesh, body.supports, body.veiled) if digest}
    try:
        use_blobs(plate.owner_id, sorted(digests))
    except BlobsGone as error:
        raise Refused("This case is being worked out anew. Try again in a moment.", code="no-body", status=409) from error


def copies(user: Any, ident: int, base: int, body: str, count: int) -> Plate:
    """So many more of a body that lies on the plate, as it was pinned."""
    with transaction.atomic():
        plate = locked(user, ident)
        document = document_of(plate)
        one = _there(document, body)
        _not_more(document, count)
        # A copy of a die belongs to no row.
        more = _numbered(document, [one.model_dump(exclude={"id"}) | {"kit": ""}] * count)
        return _change(plate, user, base, [*document.bodies, *more], f"{count} more of {one.called}")


def renew(user: Any, ident: int, base: int, body: str) -> Plate:
    """Its case has gone on: take the body as it is now, here and in all its copies."""
    with transaction.atomic():
        plate = locked(user, ident)
        document = document_of(plate)
        one = _there(document, body)
        now = pinned(cases.visible(user, one.case), one.address)
        bodies = [
            PlateBody(id=b.id, **(now | {"kit": b.kit})) if (b.case, b.address) == (one.case, one.address) else b for b in document.bodies
        ]
        _use(plate, bodies)
        return _change(plate, user, base, bodies, f"As it is now: {one.called}")


def _by_due(user: Any) -> Iterator[list[dict[str, Any]]]:
    """Of each case, what is due first in front: its bodies that lie on no plate, where nothing of it waits for anybody."""
    for number, bodies in groupby((r for r in shelf.ready(user) if r.ready and r.plate is None), key=lambda r: r.case):
        case = cases.visible(user, number)
        graph = look(case)
        try:
            yield [pinned(case, each.address, graph=graph) for each in bodies]
        except Refused:
            continue


def fill(user: Any, ident: int, base: int) -> Plate:
    """Put on what is ready and lies on no plate, what is due first, as long as there is room for it."""
    with transaction.atomic():
        plate = locked(user, ident)
        document = document_of(plate)
        settings, size = _room(document)
        ones = taken(document, size, settings, _by_due(user))
        if not ones:
            text = "Nothing that is ready finds room here: all else lies on a plate or waits for a look, or this one is full."
            raise Refused(text, code="nothing-ready", status=409)
        bodies = [*document.bodies, *_numbered(document, ones)]
        _use(plate, bodies)
        return _change(plate, user, base, bodies, f"Filled with {len(ones)} bodies")


def take_off(user: Any, ident: int, base: int, bodies: Sequence[str]) -> Plate:
    with transaction.atomic():
        plate = locked(user, ident)
        document = document_of(plate)
        gone = [_there(document, ident) for ident in bodies]
        names = ", ".join(dict.fromkeys(b.called for b in gone))
        return _change(plate, user, base, [b for b in document.bodies if b not in gone], f"Taken off: {names}")


def onto_next(user: Any, ident: int, base: int, bodies: Sequence[str]) -> tuple[Plate, list[Plate]]:
    """What has no room here lies on as many more plates as it takes, of the same printer, settings and resin: (this, the others)."""
    with transaction.atomic():
        plate = locked(user, ident)
        document = document_of(plate)
        left = [_there(document, body) for body in dict.fromkeys(bodies)]
        settings, size = _room(document)
        others = []
        while left:
            kits: dict[str, list[PlateBody]] = {}
            for body in left:
                kits.setdefault(body.kit or body.id, []).append(body)
            groups = [[b.model_dump(exclude={"id"}) for b in kit] for kit in kits.values()]
            ones = taken(PlateDocument(), size, settings, groups)
            if not ones:
                break
            others.append(_begun_like(plate, document, user, ones))
            gone = list(ones)
            # Copies are alike: of each as many go as were taken.
            left = [b for b in left if not _one_of(gone, b.model_dump(exclude={"id"}))]
        if not others:
            text = "None of it has room on an empty plate of this printer either. Choose a larger one, or lay it another way."
            raise Refused(text, code="too-large", status=409)
        stay = [b for b in document.bodies if b.id not in bodies or b in left]
        names = ", ".join(f"plate {other.pk}" for other in others)
        return _change(plate, user, base, stay, f"What had no room lies on {names}"), others


def _one_of(gone: list[dict[str, Any]], one: dict[str, Any]) -> bool:
    if one not in gone:
        return False
    gone.remove(one)
    return True


def _begun_like(plate: Plate, document: PlateDocument, user: Any, ones: list[dict[str, Any]]) -> Plate:
    """A plate with the settings of another, and these bodies."""
    other = Plate.objects.create(owner=Owner.objects.create(), wanted=timezone.now())
    pack = {at: {k: v for k, v in values.items() if k != "places"} for at, values in document.settings.get("pack", {}).items()}
    bodies = [PlateBody(id=f"b{k}", **one) for k, one in enumerate(ones, 1)]
    fresh = document.model_copy(update={"name": "", "accepted": {}, "settings": document.settings | {"pack": pack}, "bodies": bodies})
    _use(other, bodies)
    changes.write(other, user, fresh.model_dump(mode="json"), [], f"Begun with what had no room on plate {plate.pk}")
    ask_for_work(other)
    return other


def _room(document: PlateDocument) -> tuple[Any, tuple[float, float]]:
    """The settings of packing, and how wide and deep the printer's plate is."""
    settings: Any = document.settings_for(PLATE.registry["pack"])
    record = document.record("printer", settings.printer)
    if record is None:
        raise Refused("Choose a printer first: this plate's is no longer on the shelf of the house.", code="no-printer", status=409)
    printer = Printer.model_validate(record.data)
    return settings, (printer.width_mm, printer.depth_mm)


def _there(document: PlateDocument, body: str) -> PlateBody:
    found = next((b for b in document.bodies if b.id == body), None)
    if found is None:
        raise Refused("This body is not on the plate any more.", code="no-body", status=404)
    return found


def change_settings(user: Any, ident: int, base: int, step: str, values: dict[str, Any]) -> Plate:
    with transaction.atomic():
        plate = locked(user, ident)
        changed, what = settings_changed(plate, step, "*", values, [])
        changes.change(plate, user, base, changed, what, _hooks(plate))
        return plate


def take_records(user: Any, ident: int, base: int) -> Plate:
    """Printer and resin as the house's shelf has them now."""
    with transaction.atomic():
        plate = locked(user, ident)
        changed, what = as_they_are_now(PLATE.registry, document_of(plate))
        changes.change(plate, user, base, changed, what, _hooks(plate))
        return plate


def undo(user: Any, ident: int) -> Plate:
    with transaction.atomic():
        plate = locked(user, ident)
        changes.undo(plate, user, _hooks(plate))
        return plate


def redo(user: Any, ident: int) -> Plate:
    with transaction.atomic():
        plate = locked(user, ident)
        changes.redo(plate, user, _hooks(plate))
        return plate


def ask_for_file(user: Any, ident: int) -> Plate:
    """Ask for the plate as one file."""
    with transaction.atomic():
        plate = locked(user, ident)
        plate.demanded, plate.wanted = ["together"], timezone.now()
        plate.save(update_fields=["demanded", "wanted", "touched"])
        ask_for_work(plate)
        return plate


def _change(plate: Plate, user: Any, base: int, bodies: list[PlateBody], what: str) -> Plate:
    value = [b.model_dump(mode="json") for b in bodies]
    changes.change(plate, user, base, [(["bodies"], value)], what, _hooks(plate))
    return plate


def _hooks(plate: Plate) -> changes.Hooks:
    # Who changed what stands in the revisions: a plate has no patient whose law asks for more.
    return changes.Hooks(lambda action, revision, detail: None, lambda: ask_for_work(plate))


def locked(user: Any, ident: int) -> Plate:
    visible(user, ident)
    return Plate.objects.select_for_update().get(pk=ident)
