"""The case document: pieces and the settings that differ from the house's. Everything else is worked out."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from .model import Step, StepSettings

ALL = "*"


class PieceEntry(BaseModel):
    """One scan as it came: never changed after import, kept by its SHA-256. drop : how many
    drops were there before its own; retired : another one took its place, or it
    was put aside; replaced : another took its place, and may still need it to find its own; beside : a second scan of the
    same jaw that shall stay beside the first."""

    model_config = ConfigDict(extra="forbid")
    id: str
    file: str
    sha256: str
    drop: int = 0
    retired: bool = False
    replaced: bool = False
    beside: bool = False


class CaseDocument(BaseModel):
    """settings : {step: {'*' or piece: {key: value}}}; house : settings of the house at the pinned revision.

    versions, house_versions : {step: version} under which they were saved; what is missing is of the step's own.
    """

    model_config = ConfigDict(extra="forbid")
    number: str = ""
    opened: str = ""  # the day, as YYYY-MM-DD
    patient: str = ""
    practice: str = ""
    purpose: str = ""
    due: str = ""
    notes: str = ""
    technician: str = ""
    teeth: str = ""  # FDI numbers in the order of the chart, with spaces between
    opposing: str = ""
    pieces: list[PieceEntry] = Field(default_factory=list)
    settings: dict[str, dict[str, dict[str, Any]]] = Field(default_factory=dict)
    versions: dict[str, int] = Field(default_factory=dict)
    accepted: list[str] = Field(default_factory=list)
    house: dict[str, dict[str, Any]] = Field(default_factory=dict)
    house_versions: dict[str, int] = Field(default_factory=dict)
    house_revision: int = 0

    def settings_for(self, step: Step, piece: str = ALL) -> StepSettings:
        """House, then case, then piece: the nearer wins. Raises BadSetting."""
        values = step.upgraded(self.house.get(step.name, {}), self.house_versions.get(step.name))
        own, version = self.settings.get(step.name, {}), self.versions.get(step.name)
        values |= step.upgraded(own.get(ALL, {}), version)
        if piece != ALL:
            values |= step.upgraded(own.get(piece, {}), version)
        return step.check(values)

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


def canonical(value: Any) -> str:
    """One text for equal JSON values, floats as they are stored."""
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=True)


def key_of(step: Step, settings: StepSettings, inputs: dict[str, Any], piece_tag: dict[str, Any]) -> str:
    """SHA-256 over what the result depends on: contents of inputs, settings, version — never upstream keys."""
    seed = canonical(
        {
            "step": step.name,
            "version": step.version,
            "settings": settings.model_dump(mode="json"),
            "inputs": inputs,
            "tag": piece_tag,
        }
    )
    return hashlib.sha256(seed.encode()).hexdigest()
