"""What the plate room gets and says."""

from __future__ import annotations

from typing import Any

from ninja import Schema
from pydantic import Field

from cases.nodes import FlagOut, ReadingOut
from cases.schemas import WorkingOut


class PlateBodyOut(Schema):
    """A body on a plate.

    home_to_plate : None where there was no room for it, or it is not known yet; box_mm : low and high of all of it there
    turn_deg      : so far it is turned from how its case laid it
    newer         : its case has another body by now
    by_hand       : it lies where a person put it
    """

    id: str
    name: str
    case: str
    address: str
    jaw: str
    mesh: str
    supports: str
    kit: str
    home_to_plate: list[list[float]] | None
    box_mm: list[list[float]] | None
    turn_deg: float
    newer: bool
    by_hand: bool


class PlateStepOut(Schema):
    """A step of a plate: its state, what it says, what it measured."""

    step: str
    piece: str
    title: str
    state: str
    flags: list[FlagOut]
    readings: list[ReadingOut]


class PlateOut(Schema):
    """A plate as it is now.

    size_mm   : width, depth, height of the printer's build space; None while it is not known
    whose     : {step: {setting: whose value counts}}
    waits     : {case: titles of its steps before the plate that nobody has said yes to}: until then nothing is printed
    newer     : {step.setting: name} of a printer or resin that the house has changed since it was chosen
    says      : what became of it without anybody's press, as sentences
    boxes     : where bodies of deleted cases lay: x, y, width, depth (mm)
    layers    : a word that stands for its layers as they are now; empty while they are not worked out
    undo, redo : what these would do now, in words
    """

    id: int
    name: str
    revision: int
    bodies: list[PlateBodyOut]
    settings: dict[str, dict[str, Any]]
    whose: dict[str, dict[str, str]]
    states: dict[str, str]
    sentences: list[str]
    waits: dict[str, list[str]]
    newer: dict[str, str]
    says: list[str] = []
    boxes: list[tuple[float, float, float, float]] = []
    nodes: list[PlateStepOut]
    size_mm: tuple[float, float, float] | None
    printer: str
    layers: str
    working: dict[str, WorkingOut]
    trouble: str
    undo: str | None
    redo: str | None


class PlateLine(Schema):
    """A plate in a list. bay : the printer's record"""

    id: int
    name: str
    bay: str
    bodies: int
    cases: list[str]
    created: str


class OntoNext(Schema):
    """A plate, and those that were begun with what had no room on it."""

    plate: PlateOut
    others: list[int]


class LayerTable(Schema):
    """Every layer of a plate: how much is cured in each (mm²), where it ends (mm over the plate), what the whole takes, and how long it
    would with all layers as fine as the finest."""

    area_mm2: list[float]
    ends_mm: list[float]
    seconds: float
    fine_seconds: float
    resin_ml: float


class ReadyOut(Schema):
    """A body of a case, or of no case a strip of the house.

    ready : no step before the plate waits for anything; waits : else for what; plate : on which it lies already
    """

    case: str
    address: str
    jaw: str
    part: str
    patient: str
    practice: str
    due: str
    picture: str
    ready: bool
    waits: str
    plate: int | None


class PlateGone(Schema):
    id: int


class NewPlate(Schema):
    """filled : with what is ready and due first; where nothing is, none is begun"""

    name: str = ""
    printer: str = ""
    filled: bool = False


class PutOn(Schema):
    base: int
    case: str
    addresses: list[str] = Field(min_length=1, max_length=60)
    count: int = Field(1, ge=1, le=50)


class PlateChange(Schema):
    base: int
    step: str
    values: dict[str, Any]


class Named(Schema):
    base: int
    name: str = Field(max_length=200)


class TakeOff(Schema):
    base: int
    bodies: list[str] = Field(min_length=1, max_length=200)


class Copies(Schema):
    base: int
    count: int = Field(ge=1, le=50)


class Base(Schema):
    base: int
