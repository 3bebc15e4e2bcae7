"""A plate as the plate room shows it."""

from __future__ import annotations

import contextlib
from typing import Any

from bitecore.engine.graph import Node
from bitecore.engine.model import Step
from bitecore.engine.store import Manifest
from bitecore.platesheet import PLATE, PlateBody, PlateDocument
from bitecore.platesheet.document import GoneBodies
from bitecore.platesheet.sheet import PlateGraph
from bitecore.runsheet.who import CaseGraph
from cases.models import Case
from cases.nodes import FlagOut, ReadingOut
from ground.errors import Refused
from runs.changes import can_undo
from runs.kinds import document_of
from runs.records import newer_records
from runs.services import look
from runs.store import ServerStore

from .leafing import word_of
from .models import Plate
from .pinning import before_plate, is_newer, on_it, pinned
from .schemas import PlateBodyOut, PlateLine, PlateOut, PlateStepOut


def plate_line(plate: Plate) -> PlateLine:
    document = document_of(plate)
    settings: Any = document.settings_for(_pack())
    return PlateLine(
        id=plate.pk, name=document.name, bay=settings.printer, bodies=len(document.bodies),
        cases=document.cases, created=plate.created.isoformat(),
    )  # fmt: skip


def plate_out(plate: Plate, user: Any, *, veiled: bool) -> PlateOut:
    plate.refresh_from_db()
    document, graph = document_of(plate), look(plate)
    nodes = list(graph.nodes.values())
    now = _packed(plate, graph)
    cases = on_it(document, user)
    size = now.values["plate"]["json"] if now else None
    undo, redo = can_undo(plate, user)
    return PlateOut(
        id=plate.pk,
        name=document.name,
        revision=plate.revision,
        bodies=_bodies(document, now, cases, veiled=veiled),
        waits={case.number: titles for case, of_case in cases if (titles := before_plate(case, of_case))},
        settings={step.name: document.settings_for(step).model_dump(mode="json") for step in PLATE.registry.shown},
        whose={step.name: document.whose(step) for step in PLATE.registry.shown},
        states={n.step.name: n.state for n in nodes if n.piece == "*"},
        sentences=[flag["message"] for n in nodes if n.manifest for flag in n.manifest.flags],
        nodes=[_node(n, plate) for n in nodes],
        newer=newer_records(PLATE.registry, document),
        says=[_gone(each) for each in document.gone],
        boxes=[box for each in document.gone for box in each.boxes],
        size_mm=(size["width_mm"], size["depth_mm"], size["height_mm"]) if size else None,
        printer=size["printer"] if size else "",
        layers=word_of(graph),
        working=plate.working if plate.needs_work else {},
        trouble=plate.trouble,
        undo=undo,
        redo=redo,
    )


def _gone(each: GoneBodies) -> str:
    what = "1 body of a deleted case is" if each.count == 1 else f"{each.count} bodies of a deleted case are"
    then = "Its prints keep their hash and figures." if each.printed else "The plate was packed anew without them."
    return f"{what} gone since {each.day}. {then}"


def _pack() -> Step:
    return PLATE.registry["pack"]


def _node(node: Node, plate: Plate) -> PlateStepOut:
    manifest = node.manifest
    state = "working" if plate.needs_work and node.id in plate.working else node.state
    return PlateStepOut(
        step=node.step.name, piece=node.piece, title=node.step.title, state=state,
        flags=[FlagOut(**f) for f in manifest.flags] if manifest else [],
        readings=[ReadingOut(**r) for r in manifest.readings] if manifest else [],
    )  # fmt: skip


def _packed(plate: Plate, graph: PlateGraph) -> Manifest | None:
    """Where bodies lie, also where they must not; while it is packed anew, where they lay last."""
    pack = graph.node("pack")
    if pack is not None and pack.manifest is not None and "lies" in pack.manifest.values:
        return pack.manifest
    last = ServerStore().known(plate.last_good.values()).get(plate.last_good.get("pack/*", ""))
    return last if last and "lies" in last.values else None


def _bodies(document: PlateDocument, now: Manifest | None, cases: list[tuple[Case, CaseGraph]], *, veiled: bool) -> list[PlateBodyOut]:
    places = now.values["lies"]["by_piece"] if now else {}
    put: Any = document.settings_for(_pack())
    fresh = _newest(document, cases)
    return [
        PlateBodyOut(
            id=b.id, name=b.called, case=b.case, address=b.address, jaw=b.jaw, mesh=_seen(b, fresh, veiled), supports=b.supports, kit=b.kit,
            **_lies((places.get(b.id) or {}).get("json")), by_hand=b.id in put.places,
            newer=(b.case, b.address) in fresh and is_newer(b, fresh[b.case, b.address]),
        )
        for b in document.bodies
    ]  # fmt: skip


def _seen(body: PlateBody, fresh: dict[tuple[str, str], dict[str, Any]], veiled: bool) -> str:
    """Under the veil with dots for the patient's name; one that was pinned before that was kept with it as its case knows it."""
    if not veiled:
        return body.mesh
    now = fresh.get((body.case, body.address), {})
    return body.veiled or (now.get("veiled") if now.get("mesh") == body.mesh else "") or body.mesh


def _lies(found: dict[str, Any] | None) -> dict[str, Any]:
    return found or {"home_to_plate": None, "box_mm": None, "turn_deg": 0.0}


def _newest(document: PlateDocument, cases: list[tuple[Case, CaseGraph]]) -> dict[tuple[str, str], dict[str, Any]]:
    """What each body of this plate is in its case now, where that is worked out."""
    out: dict[tuple[str, str], dict[str, Any]] = {}
    for case, graph in cases:
        for address in {body.address for body in document.bodies if body.case == case.number}:
            with contextlib.suppress(Refused):
                out[case.number, address] = pinned(case, address, graph=graph)
    return out
