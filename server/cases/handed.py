"""The files of a hand-off, with the names they go out under: made where they are handed out, with or without the patient's."""

from __future__ import annotations

from dataclasses import dataclass

from bitecore.runsheet import CaseDocument
from bitecore.runsheet.export import names_of, safe_folder
from bitecore.runsheet.who import CaseGraph
from runs.services import look

from .documents import document_of
from .models import Case


@dataclass(frozen=True)
class Handed:
    name: str
    folder: str
    bytes: int
    sha256: str


def made(case: Case, *, veiled: bool) -> list[Handed]:
    return handed(look(case), document_of(case), veiled=veiled)


def handed(graph: CaseGraph, document: CaseDocument, *, veiled: bool) -> list[Handed]:
    """None where they are not made yet."""
    node = graph.node("hand-off")
    if node is None or node.good is None:
        return []
    naming = node.json("naming")
    if not naming:
        return []
    words = words_of(document, veiled=veiled)
    names = names_of(naming, naming[0]["pattern"], words)
    folder = safe_folder(naming[0]["folder"], words)
    refs = node.good.values["files"]["files"]
    return [Handed(name, folder, ref["bytes"], ref["file"]) for name, ref in zip(names, refs, strict=True)]


def words_of(document: CaseDocument, *, veiled: bool) -> dict[str, str]:
    """What patterns for names are filled with."""
    patient = "" if veiled else document.patient
    return {"number": document.number, "patient": patient, "practice": document.practice, "date": document.opened}
