"""The proof of a case: what came in, what was asked for, what the files that went out measure, what was left to be looked at."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from typing import Any, Literal, NotRequired

from typing_extensions import TypedDict

from ..blobs import Blobs
from ..engine.document import canonical
from ..engine.model import ALL, Step, StepSettings
from ..engine.registry import Registry
from .document import CaseDocument
from .plated import plate_layers
from .values import FileMeasured, Matrix
from .who import CaseGraph, about_of

FORMAT = 1


class CameIn(TypedDict):
    """A scan as it came: unit_mm, what one of its file's units is; bytes are told by sha256."""

    piece: str
    file: str
    sha256: str
    kind: str
    jaw: str | None
    unit_mm: float | None


class OwnSetting(TypedDict):
    """A setting that differs from what ships; value_said, default_said : in the words of its card; whose : house, purpose, practice, case
    or piece."""

    step: str
    title: str
    piece: str | None
    jaw: str | None
    key: str
    label: str
    value: Any
    default: Any
    value_said: str
    default_said: str
    unit: str
    whose: str


class OutBody(TypedDict):
    piece: str
    name: str
    kind: str
    jaw: str | None
    home_to_frame: Matrix | None


class WentOut(FileMeasured):
    """A file of Hand-off, read back."""

    file: str
    bytes: int
    frame: str
    holds: list[OutBody]


class StillAsked(TypedDict):
    """What a step found that is more than a note. doubt : its id; who, at : a yes of its own, where it got one"""

    step: str
    title: str
    jaw: str | None
    severity: Literal["look", "stop"]
    doubt: str
    message: str
    who: NotRequired[str]
    at: NotRequired[str]


class OnPlate(TypedDict):
    """The case's own plate. sized_percent : by how much bodies are printed larger along width, depth and height; the files of Hand-off are
    not."""

    printer: str
    resin: str
    layer_mm: float
    layers: int
    seconds: float
    resin_ml: float
    sized_percent: NotRequired[list[float]]


class Yes(TypedDict):
    """A step as somebody accepted it; changed : what has become another since, in words."""

    step: str
    title: str
    who: str
    at: str
    changed: list[str]


class HandedOff(TypedDict):
    """Files were asked for."""

    who: str
    at: str


class Printed(TypedDict):
    """A print that this case is in; sha256 : of its layers.zip; bottles : lots with what was taken of each."""

    name: str
    printer: str
    resin: str
    state: str
    who: str
    sent: str
    ended: str | None
    resin_ml: float
    sha256: str
    bottles: list[str]
    sized_percent: NotRequired[list[float]]


class Proof(TypedDict):
    """See proof_of. From `patient` on it is only there where people work on the case; patient, notes: empty under the veil."""

    format: int
    number: str
    opened: str
    inputs: list[CameIn]
    settings: list[OwnSetting]
    outputs: list[WentOut]
    left: list[StillAsked]
    plate: OnPlate | None
    patient: NotRequired[str]
    practice: NotRequired[str]
    purpose: NotRequired[str]
    due: NotRequired[str]
    technician: NotRequired[str]
    teeth: NotRequired[str]
    accepted: NotRequired[list[Yes]]
    handed_off: NotRequired[list[HandedOff]]
    prints: NotRequired[list[Printed]]


def written(proof: Proof) -> bytes:
    """proof.json."""
    return (json.dumps(proof, indent=1, ensure_ascii=False) + "\n").encode()


def proof_of(graph: CaseGraph, document: CaseDocument, registry: Registry, blobs: Blobs, named: Callable[[str], str]) -> Proof:
    """named : what a scan is called for whom it is made. Lengths in mm."""
    return {
        "format": FORMAT,
        "number": document.number,
        "opened": document.opened,
        "inputs": [_came(entry.id, entry.sha256, graph, named) for entry in document.live],
        "settings": [one for step in _in_order(registry) for one in _own(step, graph, document)],
        "outputs": _went_out(graph),
        "left": [one for step in _in_order(registry) for one in _left(step, graph, registry)],
        "plate": _plate(graph, blobs),
    }


def _in_order(registry: Registry) -> list[Step]:
    return sorted(registry.steps, key=lambda step: (step.number, bool(step.part_of)))


def _came(piece: str, sha256: str, graph: CaseGraph, named: Callable[[str], str]) -> CameIn:
    about = about_of(graph, piece) or {}
    return {
        "piece": piece,
        "file": named(piece),
        "sha256": sha256,
        "kind": about.get("kind", "other"),
        "jaw": graph.jaws.get(piece, about.get("jaw")),
        "unit_mm": about.get("unit_mm"),
    }


def _own(step: Step, graph: CaseGraph, document: CaseDocument) -> Iterator[OwnSetting]:
    """Of the case first, then those that a scan has otherwise."""
    fields = step.settings.model_json_schema().get("properties", {})
    usual = step.settings()
    for at in (ALL, *sorted(set(document.settings.get(step.name, {})) - {ALL})):
        settings, whose = document.settings_for(step, at), document.whose(step, at)
        for key, whose_value in whose.items():
            if key not in fields or (at != ALL and whose_value != "piece"):
                continue
            value, default = _said(settings, key), _said(usual, key)
            if canonical(value) == canonical(default):
                continue
            yield {
                "step": step.name,
                "title": step.title,
                "piece": None if at == ALL else at,
                "jaw": graph.jaws.get(at.split(".")[0]),
                "key": key,
                "label": fields[key].get("title", key),
                "value": value,
                "default": default,
                "value_said": _in_words(value, fields[key], document),
                "default_said": _in_words(default, fields[key], document),
                "unit": fields[key].get("unit", ""),
                "whose": whose_value,
            }


def _in_words(value: Any, field: dict[str, Any], document: CaseDocument) -> str:
    """A choice is called as on its card, a record of the house by its name."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:g}"
    if value in (None, ""):
        return "none"
    record = document.record(field["shelf"], str(value)) if field.get("shelf") else None
    return record.name if record else str(field.get("words", {}).get(value, value))


def _said(settings: StepSettings, key: str) -> Any:
    """What a person makes many of, strokes and marks, is told by how many they are."""
    value = settings.model_dump(mode="json")[key]
    return len(value) if isinstance(value, dict | list) else value


def _went_out(graph: CaseGraph) -> list[WentOut]:
    """Empty until they are read back."""
    made, read = graph.node("hand-off"), graph.node("measured")
    if made is None or made.good is None or read is None or read.good is None:
        return []
    by_digest: dict[str, FileMeasured] = {m["sha256"]: m for m in read.json("measured") or []}
    rows = made.json("outputs") or []
    return [
        {
            **by_digest[ref["file"]],
            "file": ref["name"],
            "bytes": ref["bytes"],
            "frame": next((r["frame"] for r in rows if r["sha256"] == ref["file"]), ""),
            "holds": [
                {key: row[key] for key in ("piece", "name", "kind", "jaw", "home_to_frame")}  # type: ignore[misc]
                for row in rows
                if row["sha256"] == ref["file"]
            ],
        }
        for ref in made.good.values["files"]["files"]
        if ref["file"] in by_digest
    ]


def _left(step: Step, graph: CaseGraph, registry: Registry) -> Iterator[StillAsked]:
    shown = registry[step.part_of or step.name]
    for node in graph.of_step(step.name):
        for flag in node.manifest.flags if node.manifest else ():
            if flag["severity"] != "note":
                yield {
                    "step": shown.name,
                    "title": shown.title,
                    "jaw": node.jaw,
                    "severity": flag["severity"],
                    "doubt": f"{node.id}:{flag['id']}",
                    "message": flag["message"],
                }


def _plate(graph: CaseGraph, blobs: Blobs) -> OnPlate | None:
    found = plate_layers(graph, blobs)
    if found is None:
        return None
    says = found.says
    first = says["layers"][0]["z_mm"]
    out: OnPlate = {
        "printer": says["printer"],
        "resin": says["resin"],
        "layer_mm": round(first[1] - first[0], 6),
        "layers": len(says["layers"]),
        "seconds": says["seconds"],
        "resin_ml": says["resin_ml"],
    }
    if "sized_percent" in says:
        out["sized_percent"] = says["sized_percent"]
    return out
