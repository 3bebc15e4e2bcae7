"""Cases over HTTP: routes parse, call one service, return."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import asdict
from typing import Any, Literal

from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import File, Router, UploadedFile

from accounts.services import label
from bitecore.anatomy.notation import DECIDUOUS, PERMANENT, tooth
from bitecore.parts.layer_zip import PlateLayers, written
from bitecore.runsheet import standard
from bitecore.runsheet.plated import plate_layers
from bitecore.runsheet.toothed import labelled, teeth_of
from bitecore.text import plain
from ground.errors import Refused
from runs.kinds import GoneMeanwhile
from runs.owning import folder
from runs.services import look

from . import choices, keeping, made_pieces, services, taking, veil
from .blobs import Drop, dropped
from .documents import document_of
from .handed import Handed, made
from .models import Case
from .moved import moved
from .names import Names
from .schemas import (
    Accept,
    Answer,
    CaseOut,
    Change,
    Details,
    Doubts,
    Dropped,
    Gone,
    HistoryLine,
    Hold,
    Moved,
    Others,
    PieceChoice,
    Refusal,
    StepOut,
    TakeRecords,
    TeethTold,
    ToothOut,
    Tray,
    Veil,
)
from .shown import case_out, doubts_out, steps_out
from .trays import same_for_all, tray_or_trouble

router = Router(tags=["cases"])


@router.get("", response=list[Tray])
def rack(request: HttpRequest, find: str = "", closed: bool = False) -> list[Tray]:
    """The newest two hundred open (or closed) cases of which some field holds every word of `find`."""
    down = veil.is_down(request)

    def made() -> list[Tray]:
        return [tray_or_trouble(case, veiled=down) for case in services.found(request.user, find, closed=closed, veiled=down)]

    if find.strip():
        return made()
    # All who may see the same get the same bytes, made once a change.
    body = same_for_all(
        (closed, down), services.stamp(request.user, closed=closed), lambda: json.dumps(made(), ensure_ascii=False).encode()
    )
    return HttpResponse(body, content_type="application/json; charset=utf-8")  # type: ignore[return-value]


@router.post("/veil", response=Veil)
def draw_veil(request: HttpRequest, body: Veil) -> Veil:
    """Draw the veil over patients' names, or lift it, for this session."""
    veil.draw(request, body.down)
    return body


@router.get("/veil", response=Veil)
def veil_now(request: HttpRequest) -> Veil:
    return Veil(down=veil.is_down(request))


@router.get("/teeth", response=list[ToothOut])
def teeth(request: HttpRequest) -> list[ToothOut]:
    """The chart: every tooth in the order of the arches, in all three notations."""
    return [ToothOut(**asdict(tooth(n))) for n in PERMANENT + DECIDUOUS]


@router.get("/steps", response=list[StepOut])
def steps(request: HttpRequest) -> list[StepOut]:
    return steps_out()


@router.post("/drop", response=Dropped)
def drop(request: HttpRequest, files: File[list[UploadedFile]]) -> Dropped:
    """A drop on the rack: a new case from what can be used, a case again from each that was carried here; what cannot be
    used is refused with a sentence each."""
    with dropped(files, veiled=veil.is_down(request), cases=True) as found:
        case = services.open_case(request.user, found.scans, token=_token(request)) if found.scans else None
        for carried in found.carried:
            case = keeping.brought_in(request.user, carried)
        return _dropped(request, case, found)


def _token(request: HttpRequest) -> str:
    """What the sender calls this drop, to send it again when no answer came."""
    return plain(request.headers.get("X-Drop", ""))[:64]


@router.post("/{number}/drop", response=Dropped)
def drop_on(request: HttpRequest, number: str, files: File[list[UploadedFile]]) -> Dropped:
    services.visible(request.user, number)
    with dropped(files, veiled=veil.is_down(request)) as found:
        case = services.add_files(request.user, number, found.scans, token=_token(request)) if found.scans else None
        return _dropped(request, case, found)


def _dropped(request: HttpRequest, case: Case | None, found: Drop) -> Dropped:
    names = [a.name for a in found.scans] + [c.name for c in found.carried]
    if veil.is_down(request):
        names = [f"scan {n}" for n in range(1, len(names) + 1)]
    return Dropped(
        number=case.number if case else None, revision=case.revision if case else None, accepted=names,
        refused=[Refusal(**r) for r in found.refused],
    )  # fmt: skip


@router.get("/{number}", response=CaseOut)
def read(request: HttpRequest, number: str, step: str = "") -> CaseOut:
    return _out(request, services.visible(request.user, number), step)


def _out(request: HttpRequest, case: Case, step: str) -> CaseOut:
    """As it is then. step : of which all is to be told."""
    try:
        case.refresh_from_db()
    except Case.DoesNotExist as error:
        raise GoneMeanwhile(f"There is no case {case.number} any more.", code="no-case", status=404) from error
    return case_out(case, request.user, veiled=veil.is_down(request), step=step if step in standard() else "")


@router.post("/{number}/settings", response=CaseOut)
def change_settings(request: HttpRequest, number: str, body: Change, step: str = "") -> CaseOut:
    more = [(each.step, each.piece, each.values) for each in body.more]
    case = services.change_settings(
        request.user, number, body.base, body.step, body.piece, body.values, body.entries, sure=body.sure, more=more
    )
    return _out(request, case, step)


_CHOICES = {
    "aside": choices.put_aside,
    "beside": choices.beside,
    "split": made_pieces.split_off,
    "copy": made_pieces.copied,
    "apart": made_pieces.taken_apart,
}


@router.post("/{number}/pieces/{piece}", response=CaseOut)
def choose_piece(request: HttpRequest, number: str, piece: str, body: PieceChoice, step: str = "") -> CaseOut:
    """Put a scan aside, keep it beside another of the same jaw, or let it take that one's place; or make a piece of it."""
    if body.what == "instead":
        case = choices.instead_of(request.user, number, body.base, piece, body.of)
    else:
        case = _CHOICES[body.what](request.user, number, body.base, piece)
    return _out(request, case, step)


@router.post("/{number}/details", response=CaseOut)
def change_details(request: HttpRequest, number: str, body: Details, step: str = "") -> CaseOut:
    return _out(request, services.change_details(request.user, number, body.base, body.values), step)


@router.post("/{number}/accept", response=CaseOut)
def accept(request: HttpRequest, number: str, body: Accept, step: str = "") -> CaseOut:
    return _out(request, services.accept(request.user, number, body.base, body.steps, body.accepted, body.seen), step)


@router.post("/{number}/doubts", response=CaseOut)
def answer_doubts(request: HttpRequest, number: str, body: Answer, step: str = "") -> CaseOut:
    """Say yes to single doubts, or take that back."""
    return _out(request, services.answer_doubts(request.user, number, body.base, body.doubts, body.yes), step)


@router.get("/{number}/doubts", response=Doubts)
def doubts(request: HttpRequest, number: str, before: str = "hand-off") -> Doubts:
    """What waits for a yes before this step, and the doubts in it."""
    if before not in standard():
        raise Refused("There is no such step.", code="no-step", status=404)
    return doubts_out(services.visible(request.user, number), before=before, veiled=veil.is_down(request))


@router.post("/{number}/records", response=CaseOut)
def take_records(request: HttpRequest, number: str, body: TakeRecords, step: str = "") -> CaseOut:
    """Take up what the house has changed of printers, resins and marks since they were chosen."""
    return _out(request, services.take_records(request.user, number, body.base), step)


@router.post("/{number}/undo", response=CaseOut)
def undo(request: HttpRequest, number: str, step: str = "") -> CaseOut:
    return _out(request, services.undo(request.user, number), step)


@router.post("/{number}/redo", response=CaseOut)
def redo(request: HttpRequest, number: str, step: str = "") -> CaseOut:
    return _out(request, services.redo(request.user, number), step)


@router.post("/{number}/hold", response=CaseOut)
def hold(request: HttpRequest, number: str, body: Hold, step: str = "") -> CaseOut:
    return _out(request, services.hold(request.user, number, body.held), step)


@router.post("/{number}/hand-off", response=CaseOut)
def hand_off(request: HttpRequest, number: str, step: str = "") -> CaseOut:
    return _out(request, services.hand_off(request.user, number), step)


@router.post("/{number}/close", response=CaseOut)
def close(request: HttpRequest, number: str, step: str = "", sure: bool = False) -> CaseOut:
    """sure : also where something is out of date or being worked out; else that is said first (409, asks-first)."""
    return _out(request, keeping.close(request.user, number, sure=sure), step)


@router.post("/{number}/reopen", response=CaseOut)
def reopen(request: HttpRequest, number: str, step: str = "") -> CaseOut:
    return _out(request, keeping.reopen(request.user, number), step)


@router.delete("/{number}", response=Gone)
def delete(request: HttpRequest, number: str) -> Gone:
    keeping.delete(request.user, number)
    return Gone(number=number)


@router.get("/{number}/case.zip")
def whole_case(request: HttpRequest, number: str) -> HttpResponse:
    """The case itself, to be kept elsewhere or brought to another installation by dropping it on the rack."""
    hidden = veil.is_down(request)
    return _download(
        keeping.packed(request.user, number, veiled=hidden), taking.pack_name(request.user, number, veiled=hidden), "application/zip"
    )


@router.get("/{number}/scans/{piece}.stl")
def one_scan(request: HttpRequest, number: str, piece: str, frame: Literal["bench", "bite", "home"] = "bench") -> HttpResponse:
    """A scan as it stands now, in the coordinates asked for."""
    name, data = taking.scan_as_it_stands(request.user, number, piece, frame, veiled=veil.is_down(request))
    return _download(data, name, "model/stl")


@router.post("/{number}/here", response=Others)
def here(request: HttpRequest, number: str) -> Others:
    return Others(others=services.here(request.user, services.visible(request.user, number)))


@router.get("/{number}/history", response=list[HistoryLine])
def history(request: HttpRequest, number: str) -> list[HistoryLine]:
    case = services.visible(request.user, number)
    names = Names(document_of(case), veiled=veil.is_down(request))
    return [
        HistoryLine(
            number=r.number,
            what=names.said(r.what),
            who=label(r.author) if r.author else "",
            at=r.created.isoformat(),
            kind=r.kind,
        )
        for r in case.revisions.select_related("author").defer("document", "changes")[:300]
    ]


@router.get("/{number}/moved", response=Moved)
def what_moved(request: HttpRequest, number: str) -> dict:
    """What the last change that moved a jaw did: to the jaws, their bodies, the plate."""
    case = services.visible(request.user, number)
    found = moved(case)
    return found | {"since": Names(document_of(case), veiled=veil.is_down(request)).said(found["since"])} if found else {}


@router.get("/{number}/files.zip")
def files_zip(request: HttpRequest, number: str) -> HttpResponse:
    """Everything the hand-off made, in one ZIP with fixed times: the same files give the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for file in _made(request, number):
            path = "/".join(part for part in (file.folder, file.name) if part)
            archive.writestr(zipfile.ZipInfo(path, (2020, 1, 1, 0, 0, 0)), folder().read(file.sha256))
        if _wants_layers(services.visible(request.user, number)):
            found = _layers(request, number)
            archive.writestr(zipfile.ZipInfo("layers.zip", (2020, 1, 1, 0, 0, 0)), written(found))
    return _download(out.getvalue(), f"{number}.zip", "application/zip")


@router.get("/{number}/files/{name}")
def one_file(request: HttpRequest, number: str, name: str) -> HttpResponse:
    for file in _made(request, number):
        if file.name == name:
            kind = "model/3mf" if name.endswith(".3mf") else "model/stl"
            return _download(folder().read(file.sha256), name, kind)
    raise Refused("There is no such file in this hand-off.", code="no-file", status=404)


@router.get("/{number}/layers.zip")
def layers_zip(request: HttpRequest, number: str) -> HttpResponse:
    """The plate in layers, one PNG each, as the printer gets them (docs/layers.md)."""
    found = _layers(request, number)
    return _download(written(found), f"{number}_layers.zip", "application/zip")


@router.get("/{number}/teeth.json", response=TeethTold)
def teeth_told(request: HttpRequest, number: str) -> dict:
    """Every tooth with its margin, as far as they are told (docs/teeth.md)."""
    found = teeth_of(look(services.visible(request.user, number)), folder())
    if found is None:
        raise Refused("The teeth are not told yet. Try again in a moment.", code="no-teeth", status=409)
    return found


@router.get("/{number}/teeth_{piece}.ply")
def teeth_labelled(request: HttpRequest, number: str, piece: str) -> HttpResponse:
    """The mended surface of a jaw in its home, each face with its tooth's number (docs/teeth.md)."""
    data = labelled(look(services.visible(request.user, number)), piece, folder())
    if data is None:
        raise Refused("The teeth of this scan are not told.", code="no-teeth", status=409)
    return _download(data, f"{number}_teeth_{piece}.ply", "application/octet-stream")


@router.get("/{number}/layers/{layer}.png")
def one_layer(request: HttpRequest, number: str, layer: int, wide: int = 0) -> HttpResponse:
    """One layer of the plate: white is cured. wide : for a screen, so many pixels at least; nought: as the printer gets it"""
    found = _layers(request, number)
    if not 0 <= layer < len(found.says["layers"]):
        raise Refused("The plate has no such layer.", code="no-layer", status=404)
    return HttpResponse(found.seen(layer, wide) if wide > 0 else found.picture(layer), content_type="image/png")


def _wants_layers(case: Case) -> bool:
    settings: Any = document_of(case).settings_for(standard()["hand-off"])
    return bool(settings.layers)


def _layers(request: HttpRequest, number: str) -> PlateLayers:
    found = plate_layers(look(services.visible(request.user, number)), folder())
    if found is None:
        raise Refused("The layers are not worked out yet.", code="no-layers", status=409)
    return found


def _made(request: HttpRequest, number: str) -> list[Handed]:
    files = made(services.visible(request.user, number), veiled=veil.is_down(request))
    if not files:
        raise Refused("The files are not made yet.", code="no-files", status=409)
    return files


def _download(data: bytes, name: str, kind: str) -> HttpResponse:
    response = HttpResponse(data, content_type=kind)
    response["Content-Disposition"] = content_disposition_header(True, name) or "attachment"
    return response
