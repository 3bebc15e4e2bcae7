"""Cases over HTTP: routes parse, call one service, return."""

from __future__ import annotations

import io
import zipfile

from django.http import HttpRequest, HttpResponse
from ninja import File, Router, UploadedFile

from accounts.services import label
from config.errors import Refused

from . import services
from .blobs import folder, judge
from .models import Case
from .schemas import Accept, CaseOut, Change, Details, Dropped, HistoryLine, Hold, Others, Refusal, StepOut, Tray
from .shown import case_out, steps_out, tray

router = Router(tags=["cases"])


@router.get("", response=list[Tray])
def rack(request: HttpRequest, find: str = "") -> list[Tray]:
    """The newest two hundred cases whose number or details hold every word of `find`."""
    words = find.lower().split()
    trays = [tray(case) for case in Case.objects.visible_to(request.user)[:200]]
    text = {t.number: " ".join([t.number, t.patient, t.practice, t.purpose, t.due, t.waits]).lower() for t in trays}
    return [t for t in trays if all(w in text[t.number] for w in words)]


@router.get("/steps", response=list[StepOut])
def steps(request: HttpRequest) -> list[StepOut]:
    return steps_out()


@router.post("/drop", response=Dropped)
def drop(request: HttpRequest, files: File[list[UploadedFile]]) -> Dropped:
    """A drop on the rack: a new case from what can be used; what cannot is refused with a sentence each."""
    accepted, refused = judge(files)
    case = services.open_case(request.user, accepted) if accepted else None
    return _dropped(case, [a.name for a in accepted], refused)


@router.post("/{number}/drop", response=Dropped)
def drop_on(request: HttpRequest, number: str, files: File[list[UploadedFile]]) -> Dropped:
    services.visible(request.user, number)
    accepted, refused = judge(files)
    case = services.add_files(request.user, number, accepted) if accepted else None
    return _dropped(case, [a.name for a in accepted], refused)


def _dropped(case: Case | None, accepted: list[str], refused: list[dict]) -> Dropped:
    return Dropped(
        number=case.number if case else None, revision=case.revision if case else None, accepted=accepted,
        refused=[Refusal(**r) for r in refused],
    )  # fmt: skip


@router.get("/{number}", response=CaseOut)
def read(request: HttpRequest, number: str) -> CaseOut:
    return _out(request, services.visible(request.user, number))


def _out(request: HttpRequest, case: Case) -> CaseOut:
    case.refresh_from_db()
    return case_out(case, request.user)


@router.post("/{number}/settings", response=CaseOut)
def change_settings(request: HttpRequest, number: str, body: Change) -> CaseOut:
    case = services.change_settings(request.user, number, body.base, body.step, body.piece, body.values)
    return _out(request, case)


@router.post("/{number}/details", response=CaseOut)
def change_details(request: HttpRequest, number: str, body: Details) -> CaseOut:
    return _out(request, services.change_details(request.user, number, body.base, body.values))


@router.post("/{number}/accept", response=CaseOut)
def accept(request: HttpRequest, number: str, body: Accept) -> CaseOut:
    return _out(request, services.accept(request.user, number, body.base, body.steps, body.accepted))


@router.post("/{number}/undo", response=CaseOut)
def undo(request: HttpRequest, number: str) -> CaseOut:
    return _out(request, services.undo(request.user, number))


@router.post("/{number}/redo", response=CaseOut)
def redo(request: HttpRequest, number: str) -> CaseOut:
    return _out(request, services.redo(request.user, number))


@router.post("/{number}/hold", response=CaseOut)
def hold(request: HttpRequest, number: str, body: Hold) -> CaseOut:
    return _out(request, services.hold(request.user, number, body.held))


@router.post("/{number}/hand-off", response=CaseOut)
def hand_off(request: HttpRequest, number: str) -> CaseOut:
    return _out(request, services.hand_off(request.user, number))


@router.post("/{number}/here", response=Others)
def here(request: HttpRequest, number: str) -> Others:
    return Others(others=services.here(request.user, services.visible(request.user, number)))


@router.get("/{number}/history", response=list[HistoryLine])
def history(request: HttpRequest, number: str) -> list[HistoryLine]:
    case = services.visible(request.user, number)
    return [
        HistoryLine(number=r.number, what=r.what, who=label(r.author) if r.author else "", at=r.created.isoformat(), kind=r.kind)
        for r in case.revisions.select_related("author")[:300]
    ]


@router.get("/{number}/files.zip")
def files_zip(request: HttpRequest, number: str) -> HttpResponse:
    """Everything the hand-off made, in one ZIP with fixed times: the same files give the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for file in _made(request, number):
            archive.writestr(zipfile.ZipInfo(file["name"], (2020, 1, 1, 0, 0, 0)), folder().read(file["sha256"]))
    return _download(out.getvalue(), f"{number}.zip", "application/zip")


@router.get("/{number}/files/{name}")
def one_file(request: HttpRequest, number: str, name: str) -> HttpResponse:
    for file in _made(request, number):
        if file["name"] == name:
            kind = "model/3mf" if name.endswith(".3mf") else "model/stl"
            return _download(folder().read(file["sha256"]), name, kind)
    raise Refused(f"There is no file “{name}” in this hand-off.", code="no-file", status=404)


def _made(request: HttpRequest, number: str) -> list[dict]:
    files = case_out(services.visible(request.user, number), request.user).files
    if not files:
        raise Refused("The files are not made yet.", code="no-files", status=409)
    return files


def _download(data: bytes, name: str, kind: str) -> HttpResponse:
    response = HttpResponse(data, content_type=kind)
    plain = name.encode("ascii", "replace").decode().replace('"', "'")
    response["Content-Disposition"] = f'attachment; filename="{plain}"'
    return response
