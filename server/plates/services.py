"""What can be done with a plate. A body is pinned as it is when it is put there: its case may go on, or go."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from bitecore.engine.document import Layer
from bitecore.platesheet import PLATE, PlateBody, PlateDocument
from cases import services as cases
from ground.errors import Refused
from house.services import newest
from runs import changes
from runs.kinds import document_of
from runs.models import Owner
from runs.owning import BlobsGone, use_blobs
from runs.records import with_records
from runs.services import ask_for_work, look
from runs.settings import settings_changed

from .models import Plate

_MOST_BODIES = 200


def visible(user: Any, ident: int) -> Plate:
    plate = Plate.objects.visible_to(user).filter(pk=ident).first()
    if plate is None:
        raise Refused("There is no such plate.", code="no-plate", status=404)
    return plate


@transaction.atomic
def create(user: Any, name: str) -> Plate:
    owner = Owner.objects.create()
    plate = Plate.objects.create(owner=owner, wanted=timezone.now())
    house = newest()
    steps = {name: values for name, values in house.steps.items() if name in PLATE.registry}
    document = PlateDocument(name=name.strip()[:120], layers={"house": Layer(revision=house.number, steps=steps)})
    document = with_records(PLATE.registry, document)
    changes.write(plate, user, document.model_dump(mode="json"), [], "Plate begun")
    ask_for_work(plate)
    return plate


def put(user: Any, ident: int, base: int, number: str, address: str) -> Plate:
    """Put a body of a case on the plate, as it is now."""
    with transaction.atomic():
        plate = _locked(user, ident)
        case = cases.visible(user, number)
        graph = look(case)
        node, level = graph.node("assemble", address), graph.node("level")
        digest = node.mesh("body") if node and node.good else None
        stand = level.json("stand", address.split(".")[0]) if level else None
        if node is None or digest is None or stand is None:
            raise Refused(f"The body {address[:40]} of case {number} is not ready yet.", code="no-body", status=409)
        document = document_of(plate)
        if len(document.bodies) >= _MOST_BODIES:
            raise Refused(f"A plate takes up to {_MOST_BODIES} bodies.", code="too-many", status=409)
        try:
            use_blobs(plate.owner_id, [digest])
        except BlobsGone as error:
            raise Refused(f"Case {number} is being worked out anew. Try again in a moment.", code="no-body", status=409) from error
        last = max((int(b.id[1:]) for b in document.bodies), default=0)
        body = PlateBody(
            id=f"b{last + 1}", mesh=digest, up=stand["up"], front=stand["front"], case=number, address=address, jaw=node.jaw or ""
        )
        bodies = [*document.bodies, body]
        return _change(plate, user, base, bodies, f"Put on: {body.called}")


def take_off(user: Any, ident: int, base: int, body: str) -> Plate:
    with transaction.atomic():
        plate = _locked(user, ident)
        document = document_of(plate)
        gone = next((b for b in document.bodies if b.id == body), None)
        if gone is None:
            raise Refused("This body is not on the plate any more.", code="no-body", status=404)
        return _change(plate, user, base, [b for b in document.bodies if b.id != body], f"Taken off: {gone.called}")


def change_settings(user: Any, ident: int, base: int, step: str, values: dict[str, Any]) -> Plate:
    with transaction.atomic():
        plate = _locked(user, ident)
        changed, what = settings_changed(plate, step, "*", values, [])
        changes.change(plate, user, base, changed, what, _hooks(plate))
        return plate


def undo(user: Any, ident: int) -> Plate:
    with transaction.atomic():
        plate = _locked(user, ident)
        changes.undo(plate, user, _hooks(plate))
        return plate


def ask_for_file(user: Any, ident: int) -> Plate:
    """Ask for the plate as one file."""
    with transaction.atomic():
        plate = _locked(user, ident)
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


def _locked(user: Any, ident: int) -> Plate:
    visible(user, ident)
    return Plate.objects.select_for_update().get(pk=ident)
