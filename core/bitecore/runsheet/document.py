"""The case document: scans and the settings that differ from the house's. Everything else is worked out."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..engine.document import SheetDocument


class PieceEntry(BaseModel):
    """One scan as it came: never changed after import.

    id       : p1, p2, …
    file     : the name it came with
    sha256   : of its bytes
    drop     : how many drops were there before its own
    retired  : another one took its place, or it was put aside
    replaced : another took its place, and may still need it to find its own
    beside   : a second scan of the same jaw that shall stay beside the first
    """

    model_config = ConfigDict(extra="forbid")
    id: str
    file: str
    sha256: str
    drop: int = 0
    retired: bool = False
    replaced: bool = False
    beside: bool = False


class PartEntry(BaseModel):
    """A part that a person made of a jaw's model: a piece split off, a copy that goes its own way.

    begins : the step from which it is worked on by itself; until there it is its jaw's model
    """

    model_config = ConfigDict(extra="forbid")
    begins: str


class Waived(BaseModel):
    """A doubt that a person said yes to by itself. who, at : a name as it is shown, and when (ISO 8601)"""

    model_config = ConfigDict(extra="forbid")
    step: str
    message: str
    who: str = ""
    at: str = ""


class CaseDocument(SheetDocument):
    """What is kept of a case.

    opened : the day, as YYYY-MM-DD
    teeth  : FDI numbers in the order of the chart, with spaces between
    parts  : by address
    waived : by the id of the doubt
    """

    model_config = ConfigDict(extra="forbid")
    number: str = ""
    opened: str = ""
    patient: str = ""
    practice: str = ""
    purpose: str = ""
    due: str = ""
    notes: str = ""
    technician: str = ""
    teeth: str = ""
    opposing: str = ""
    pieces: list[PieceEntry] = Field(default_factory=list)
    parts: dict[str, PartEntry] = Field(default_factory=dict)
    waived: dict[str, Waived] = Field(default_factory=dict)

    @model_validator(mode="before")
    @classmethod
    def _older(cls, kept: Any) -> Any:
        return brought_up(kept) if isinstance(kept, dict) else kept

    @property
    def live(self) -> list[PieceEntry]:
        """The pieces that count."""
        return [p for p in self.pieces if not p.retired]

    @property
    def known(self) -> list[PieceEntry]:
        """The pieces that count, and those whose place another took."""
        return [p for p in self.pieces if not p.retired or p.replaced]

    def entry(self, piece: str) -> PieceEntry:
        return next(p for p in self.pieces if p.id == piece)


def brought_up(kept: dict[str, Any]) -> dict[str, Any]:
    """A document as it was kept before there were layers and before acceptance knew what it had seen."""
    out = dict(kept)
    house = {new: out.pop(old) for new, old in _HOUSE.items() if old in out}
    if any(house.values()):
        out["layers"] = {"house": house, **out.get("layers", {})}
    if isinstance(out.get("accepted"), list):
        out["accepted"] = {step: {} for step in out["accepted"]}
    return out


_HOUSE = {"steps": "house", "versions": "house_versions", "revision": "house_revision"}
