"""The shelf of the plate room: bodies of all open cases, what is due first in front."""

from __future__ import annotations

from typing import Any

from cases.models import Case
from cases.trays import current_summary, picture_of
from runs.kinds import document_of

from .models import Plate
from .schemas import ReadyOut
from .strips import STRIPS

_MOST_CASES, _MOST_PLATES = 300, 100


def ready(user: Any, *, veiled: bool = False) -> list[ReadyOut]:
    lies = _on_plates(user)
    out: list[ReadyOut] = []
    for case in Case.objects.visible_to(user).filter(closed__isnull=True)[:_MOST_CASES]:
        kept = current_summary(case)
        if kept is None:
            continue
        waits = _waits(case, kept)
        out += [
            ReadyOut(
                case=case.number, address=body["address"], jaw=body["jaw"], part=body["address"].partition(".")[2],
                patient="" if veiled else kept["patient"], practice=kept["practice"], due=kept["due"], picture=picture_of(case),
                ready=not waits, waits=waits, plate=lies.get((case.number, body["address"])),
            )
            for body in kept["bodies"]
        ]  # fmt: skip
    return [*sorted(out, key=lambda r: (r.due or "9999", r.case, r.address)), *map(_strip, STRIPS)]


def _strip(address: str) -> ReadyOut:
    """Put on a plate by hand only, as often as one likes."""
    return ReadyOut(
        case="", address=address, jaw="", part=address.replace("-", " "), patient="", practice="", due="", picture="",
        ready=False, waits="", plate=None,
    )  # fmt: skip


def _waits(case: Case, kept: dict[str, Any]) -> str:
    if case.trouble or case.needs_work:
        return case.trouble or "It is being worked out"
    if kept["failed"] and kept["failed"][0] not in ("plate", "hand-off"):
        return str(kept["failed"][1])
    return str(kept["doubt"])


def _on_plates(user: Any) -> dict[tuple[str, str], int]:
    out: dict[tuple[str, str], int] = {}
    for plate in Plate.objects.visible_to(user)[:_MOST_PLATES]:
        for body in document_of(plate).bodies:
            out.setdefault((body.case, body.address), plate.pk)
    return out
