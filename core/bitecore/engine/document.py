"""What is kept of a sheet: settings that differ from the steps' own, layer upon layer, and what was accepted."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from ..parts.shelf import BUILT_IN, Record
from .model import ALL, Step, StepSettings, above

# The farther first: what is nearer wins.
LAYERS = ("house", "purpose", "practice")


class Layer(BaseModel):
    """Defaults as they were when the sheet took them up.

    id, name : of the record they are from; the house has none
    revision : of that record
    steps    : {step: {key: value}}
    versions : {step: version} they were saved under
    """

    model_config = ConfigDict(extra="forbid")
    id: str = ""
    name: str = ""
    revision: int = 0
    steps: dict[str, dict[str, Any]] = Field(default_factory=dict)
    versions: dict[str, int] = Field(default_factory=dict)


class Seen(BaseModel):
    """One result as it was accepted.

    version : of the step
    key     : of the result
    digest  : over what it gave and said
    origin  : over its inputs and its settings as they are saved
    """

    model_config = ConfigDict(extra="forbid")
    version: int
    key: str
    digest: str
    origin: str


class Accepted(BaseModel):
    """seen : by node id, what was there when a person accepted the step; empty where that was not kept yet."""

    model_config = ConfigDict(extra="forbid")
    seen: dict[str, Seen] = Field(default_factory=dict)


class SheetDocument(BaseModel):
    """What is kept of a sheet.

    settings : {step: {'*' or address: {key: value}}}
    versions : {step: version} they were saved under; what is missing is of the step's own
    layers   : defaults from farther off, by LAYERS
    records  : {shelf: {id: record}} that settings chose from, as it was then
    accepted : by step
    """

    model_config = ConfigDict(extra="forbid")
    settings: dict[str, dict[str, dict[str, Any]]] = Field(default_factory=dict)
    versions: dict[str, int] = Field(default_factory=dict)
    layers: dict[str, Layer] = Field(default_factory=dict)
    records: dict[str, dict[str, Record]] = Field(default_factory=dict)
    accepted: dict[str, Accepted] = Field(default_factory=dict)

    def layered(self, step: Step, address: str = ALL) -> list[tuple[str, dict[str, Any], int | None]]:
        """(whose, values as saved, version they were saved under), the farthest first: house, purpose, practice, then 'case',
        then each 'piece'."""
        out: list[tuple[str, dict[str, Any], int | None]] = []
        for name in LAYERS:
            layer = self.layers.get(name)
            if layer and step.name in layer.steps:
                out.append((name, layer.steps[step.name], layer.versions.get(step.name)))
        own, version = self.settings.get(step.name, {}), self.versions.get(step.name)
        for at in reversed(above(address)):
            if at in own:
                out.append(("case" if at == ALL else "piece", own[at], version))
        return out

    def settings_for(self, step: Step, address: str = ALL) -> StepSettings:
        """The nearer wins. Raises BadSetting."""
        values: dict[str, Any] = {}
        for _, saved, version in self.layered(step, address):
            values |= step.upgraded(saved, version)
        return step.check(values)

    def record(self, shelf: str, chosen: str) -> Record | None:
        """As it was pinned, else as it ships."""
        return self.records.get(shelf, {}).get(chosen) or BUILT_IN.get(shelf, {}).get(chosen)

    def chosen(self, step: Step, address: str = ALL) -> list[tuple[str, str, str]]:
        """(setting, shelf, id) of every setting of a step that chooses from a shelf."""
        settings = self.settings_for(step, address)
        return [(key, shelf, getattr(settings, key)) for key, shelf in step.shelves.items()]

    def record_ref(self, step: Step, key: str, address: str = ALL) -> dict[str, Any]:
        """What a step gets of the record that its setting has chosen: {id, name, data}, or None where there is none."""
        _, shelf, ident = next(row for row in self.chosen(step, address) if row[0] == key)
        record = self.record(shelf, ident)
        return {"json": {"id": ident, "name": record.name, "data": record.data} if record else None}

    def whose(self, step: Step, address: str = ALL) -> dict[str, str]:
        """{key: whose value counts} of every setting that is not the step's own default."""
        return {key: name for name, saved, version in self.layered(step, address) for key in step.upgraded(saved, version)}


def canonical(value: Any) -> str:
    """One text for equal JSON values, floats as they are stored."""
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=True)


def hashed(value: Any) -> str:
    return hashlib.sha256(canonical(value).encode()).hexdigest()


def key_of(step: Step, settings: StepSettings, inputs: Mapping[str, Any], tag: Mapping[str, Any]) -> str:
    """SHA-256 over all that apply gets: contents of inputs, settings, tag, version; never upstream keys."""
    return hashed({"step": step.name, "version": step.version, "settings": settings.model_dump(mode="json"), "inputs": inputs, "tag": tag})
