"""Nodes over the wire, typed by what their steps give: made from the registry, so that a new step is typed with it."""

from __future__ import annotations

import logging
from typing import Annotated, Any, Literal, Union

from ninja import Schema
from pydantic import BaseModel, Field, ValidationError, create_model

from bitecore.engine.gives import Gives, Reserve
from bitecore.engine.model import Step
from bitecore.runsheet import standard

log = logging.getLogger("bench.cases")


State = Literal["done", "look", "failed", "off", "working", "stale", "todo"]


class PlaceOut(Schema):
    """See bitecore.engine.model.Place."""

    piece: str
    frame: str
    point_mm: tuple[float, float, float]
    radius_mm: float
    facing: tuple[float, float, float] | None = None


class FixMore(Schema):
    """Settings that go with a Fix in the same press."""

    step: str
    piece: str
    values: dict[str, Any]


class FixOut(Schema):
    step: str
    piece: str
    values: dict[str, Any]
    at: str = ""
    id: str = ""
    label: str = "Fix"
    more: list[FixMore] = []


class FlagOut(Schema):
    id: str
    code: str
    severity: Literal["note", "look", "stop"]
    message: str
    place: PlaceOut | None = None
    fix: FixOut | None = None
    other: FixOut | None = None
    unmet: bool = False


class ReadingOut(Schema):
    name: str
    value: float | int | str | bool
    unit: str


class SolidOut(Schema):
    op: Literal["add", "cut", "split", "part"]
    name: str
    mesh: str


class _Node(Schema):
    """A node as the run sheet and the stage need it.

    state : done, look, failed, off, working, stale (an older result is shown), todo
    looks : how many of its flags are more than notes; doubt : the first of those
    speaks : its state is one of its step's on the run sheet
    """

    id: str
    part_of: str
    speaks: bool
    on_demand: bool
    piece: str
    jaw: str | None
    state: State
    figure: str
    looks: int
    doubt: str


class _Detail(Schema):
    """All of a node of the open step.

    whose     : {setting: house, purpose, practice, case or piece} of those that are not the step's own
    kept      : the version it was made with, where that is an older one which a person accepted
    waits_for : why it is not there yet, as a sentence
    """

    id: str
    piece: str
    seconds: float | None
    whose: dict[str, str]
    readings: list[ReadingOut]
    flags: list[FlagOut]
    kept: int | None
    waits_for: str


def _camel(step: Step) -> str:
    return "".join(word.capitalize() for word in step.name.split("-"))


def _type_of(gives: Gives) -> Any:
    if gives.by_piece:
        return dict[str, _type_of(Gives(gives.kind, gives.model)) | None]  # type: ignore
    kinds = {"mesh": str, "files": list[str], "solids": list[SolidOut], "reserves": list[Reserve]}
    return gives.model if gives.kind == "json" else kinds[gives.kind]


def _good(step: Step) -> type[BaseModel]:
    fields: dict[str, Any] = {name: (_type_of(gives) | None, None) for name, gives in step.gives.items()}
    return create_model(f"{_camel(step)}Good", __base__=Schema, **fields)


def _node(step: Step) -> type[BaseModel]:
    return create_model(f"{_camel(step)}Node", __base__=_Node, step=(Literal[step.name], ...), good=(_good(step), ...))  # type: ignore


def _detail(step: Step) -> type[BaseModel]:
    return create_model(f"{_camel(step)}Detail", __base__=_Detail, step=(Literal[step.name], ...), settings=(step.settings, ...))  # type: ignore


_STEPS = standard().steps
_NODES = {s.name: _node(s) for s in _STEPS}
_DETAILS = {s.name: _detail(s) for s in _STEPS}
NodeOut: Any = Annotated[Union[tuple(_NODES.values())], Field(discriminator="step")]  # type: ignore  # noqa: UP007
NodeDetail: Any = Annotated[Union[tuple(_DETAILS.values())], Field(discriminator="step")]  # type: ignore  # noqa: UP007


def checked(step: str, fields: dict[str, Any]) -> dict[str, Any]:
    """The fields of a node. A result of an older version of the step, kept because it was accepted, may hold values of another
    form: those are left out, and the case is shown all the same."""
    try:
        _NODES[step].model_validate(fields)
    except ValidationError as error:
        wrong = {str(e["loc"][1]) for e in error.errors() if e["loc"][:1] == ("good",) and len(e["loc"]) > 1}
        log.error("%s: stored values of another form: %s", fields["id"], ", ".join(sorted(wrong)))
        return {**fields, "good": {key: value for key, value in fields["good"].items() if key not in wrong}}
    return fields


def plain(ref: dict[str, Any] | None) -> Any:
    """A ref as it goes out: a mesh is its digest, a JSON value itself."""
    if ref is None:
        return None
    if "by_piece" in ref:
        return {piece: plain(one) for piece, one in ref["by_piece"].items()}
    if "files" in ref:
        return [file["name"] for file in ref["files"]]
    return next((ref[kind] for kind in ("mesh", "solids", "json") if kind in ref), None)
