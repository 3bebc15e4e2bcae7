"""What goes over the wire for cases."""

from __future__ import annotations

from typing import Any, Literal

from ninja import Schema
from typing_extensions import TypedDict

from runs.entries import EntryChange

from .nodes import FixMore, FlagOut, NodeDetail, NodeOut, State


class PieceOut(Schema):
    """settled : nothing is worked out that could still make it something else"""

    id: str
    file: str
    sha256: str
    jaw: str | None
    kind: str
    side: str
    looks: str | None
    confidence: float
    same_as: str | None
    instead_of: str | None
    settled: bool
    twin: str
    twin_case: str
    turning: str


class WorkingOut(Schema):
    """What a node is at: how far (0 to 1), with what."""

    node: str
    fraction: float
    what: str


class FileOut(Schema):
    """A file of the hand-off."""

    name: str
    folder: str
    bytes: int
    sha256: str


class DoubtOut(Schema):
    """A finding that waits for a person.

    own   : nothing but its own yes passes it
    who, at : the yes it got, empty while it has none
    """

    id: str
    step: str
    title: str
    node: str
    piece: str
    jaw: str | None
    flag: FlagOut
    own: bool
    who: str
    at: str


class CaseOut(Schema):
    """A case as the bench shows it.

    open, opened : the step that was asked for, with all there is to say of its nodes
    accepted     : {step: what has changed since, in words}
    doubts       : of the steps that wait for a yes, and what got a yes of its own
    queue        : where it stands while it waits to be worked out, in words
    asked        : steps that somebody asked for and that are not there yet
    newer        : {step.setting: name} of a record that the house has changed since it was chosen
    """

    number: str
    revision: int
    details: dict[str, str]
    pieces: list[PieceOut]
    nodes: list[NodeOut]
    open: str
    opened: list[NodeDetail]
    accepted: dict[str, list[str]]
    doubts: list[DoubtOut]
    newer: dict[str, str]
    working: dict[str, WorkingOut]
    queue: str
    asked: list[str]
    held: bool
    trouble: str
    undo: str | None
    redo: str | None
    files: list[FileOut]
    picture: str
    closed: bool = False
    keep_until: str = ""
    veiled: bool = False


# The rack is hundreds of these: plain dicts, of which nothing is made anew.
class TrayState(TypedDict):
    step: str
    title: str
    state: State


class Tray(TypedDict):
    number: str
    patient: str
    practice: str
    purpose: str
    due: str
    picture: str
    step: str
    states: list[TrayState]
    waits: str
    tone: str
    working: float | None
    created: str
    closed: bool
    keep_until: str


class Refusal(Schema):
    file: str
    code: str
    message: str


class Dropped(Schema):
    number: str | None
    revision: int | None
    accepted: list[str]
    refused: list[Refusal]


class Change(Schema):
    """sure : also where it changes what other scans are; else that is said first (409, changes-others).
    more : further settings, in the same revision"""

    base: int
    sure: bool = False
    step: str
    piece: str = "*"
    values: dict[str, Any] = {}
    entries: list[EntryChange] = []
    more: list[FixMore] = []


class Details(Schema):
    base: int
    values: dict[str, str]


class Accept(Schema):
    """seen : of one step, the ids of the doubts on its card; several steps are accepted up to the first doubt only."""

    base: int
    steps: list[str]
    accepted: bool = True
    seen: list[str] = []


class Answer(Schema):
    """doubts : ids; yes : each may stand as it is, or is open again"""

    base: int
    doubts: list[str]
    yes: bool = True


class Doubts(Schema):
    """waits : steps up to the plate that wait for a yes, by name: title"""

    revision: int
    waits: dict[str, str]
    doubts: list[DoubtOut]


class TakeRecords(Schema):
    base: int


class Veil(Schema):
    down: bool


class Gone(Schema):
    number: str


class PieceChoice(Schema):
    """what : aside, beside, or instead (then of : the piece whose place it takes); split (what is marked becomes a piece of its own),
    copy, or apart (a bite impression into its two jaws)."""

    base: int
    what: Literal["aside", "beside", "instead", "split", "copy", "apart"]
    of: str = ""


class ToothOut(Schema):
    fdi: int
    universal: str
    palmer: str
    jaw: str
    deciduous: bool


class ToothTold(TypedDict):
    """See docs/teeth.md."""

    fdi: int
    confidence: float
    by_hand: bool
    centre_mm: tuple[float, float, float]
    mesiodistal_mm: float
    margin_mm: list[tuple[float, float, float]]
    margin_confidence: list[float]


class JawTold(TypedDict):
    piece: str
    jaw: str
    frame: str
    teeth: list[ToothTold]


class TeethTold(TypedDict):
    """Of the jaws of which the teeth are told."""

    format: int
    jaws: list[JawTold]


class Hold(Schema):
    held: bool


class HistoryLine(Schema):
    number: int
    what: str
    who: str
    at: str
    kind: str


class JawMoved(Schema):
    """See core/bitecore/runsheet/compare.py."""

    piece: str
    jaw: str
    moved_mm: float
    most_mm: float
    turned_deg: float
    body: Literal["same", "changed", "new", "none"]
    had_ml: float | None
    has_ml: float | None
    plate_mm: float | None


class Moved(Schema):
    """What the last change that moved a jaw did.

    since : what was done
    jaws  : none where nothing is known
    """

    since: str = ""
    who: str = ""
    jaws: list[JawMoved] = []


class Others(Schema):
    others: list[str]


class SettingOut(Schema):
    """A setting of a step, for its form.

    step   : whose it is: the step's own, or of a part of it
    shelf  : of the house, from which it chooses
    labels : what choices are called
    when   : it is of use only while these other settings have one of these values (texts)
    """

    step: str
    key: str
    label: str
    help: str
    unit: str
    main: bool
    per_jaw: bool
    shelf: str
    type: str
    optional: bool
    default: Any
    choices: list[str]
    labels: dict[str, str]
    when: dict[str, list[str]]
    least: float | None
    most: float | None


class StepOut(Schema):
    name: str
    title: str
    number: int
    over: str
    about: str
    on_demand: bool
    settings: list[SettingOut]
