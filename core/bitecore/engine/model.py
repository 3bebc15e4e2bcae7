"""What a step is: a name, settings with units and bounds, what it needs and gives, and a pure function."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..errors import BadSetting
from ..progress import Run
from .gives import Gives

Severity = Literal["note", "look", "stop"]
ALL = "*"


def above(address: str) -> list[str]:
    """An address and those it falls back to, the nearest first: p1.die-16, p1, *."""
    parts = address.split(".")
    chain = [".".join(parts[:n]) for n in range(len(parts), 0, -1)]
    return chain if address == ALL else [*chain, ALL]


class StepSettings(BaseModel):
    """Settings of one step. One model gives validation, the stored JSON, the API schema and the card's form."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


def setting(
    default: Any, *, label: str, help: str, unit: str = "", main: bool = True, per_jaw: bool = False, form: bool = True,
    shelf: str = "", words: Mapping[str, str] | None = None, when: Mapping[str, tuple[Any, ...]] | None = None, **bounds: Any,
) -> Any:  # fmt: skip
    """A field of a StepSettings: label and help in the trade's words, unit, bounds (ge, le).

    main    : False folds it
    per_jaw : a change on the card counts for the jaw that is looked at; otherwise for all
    form    : False keeps it off the card
    shelf   : its value is the id of a record on this shelf of the house (see Need.shelf)
    words   : what its choices are called
    when    : the card shows it only while these other settings have one of these values
    """
    extra: dict[str, Any] = {"unit": unit, "main": main, "per_jaw": per_jaw, "form": form, "shelf": shelf}
    extra |= {"words": dict(words or {}), "when": {key: [_as_text(v) for v in values] for key, values in (when or {}).items()}}
    return Field(default, title=label, description=help, json_schema_extra=extra, **bounds)


def _as_text(value: Any) -> str:
    """As JSON has it, without the marks of a text."""
    return value if isinstance(value, str) else json.dumps(value)


@dataclass(frozen=True)
class Place:
    """A place in space.

    piece     : its address
    frame     : home, bite or bench
    radius_mm : how much to show
    facing    : (of length one) the way out of the surface there, where it matters from which side one looks
    """

    piece: str
    point_mm: tuple[float, float, float]
    radius_mm: float = 1.0
    frame: str = "home"
    facing: tuple[float, float, float] | None = None

    def as_json(self) -> dict:
        point = [round(float(x), 4) for x in self.point_mm]
        facing = None if self.facing is None else [round(float(x), 4) for x in self.facing]
        return {"piece": self.piece, "frame": self.frame, "point_mm": point, "radius_mm": round(self.radius_mm, 3), "facing": facing}


@dataclass(frozen=True)
class Fix:
    """The settings that would mend a finding.

    piece : an address, * for all
    at    : of settings a person makes many of, which: values is then one entry, a new one or in place of id
    label : what its button says
    more  : further settings that go with them, in the same press
    """

    step: str
    piece: str
    values: Mapping[str, Any]
    at: str = ""
    id: str = ""
    label: str = "Fix"
    more: tuple[Fix, ...] = ()

    @property
    def settings(self) -> dict[str, Any]:
        """As settings of the step."""
        return {self.at: {self.id or f"{self.at[0]}1": dict(self.values)}} if self.at else dict(self.values)

    def as_json(self) -> dict:
        out: dict[str, Any] = {"step": self.step, "piece": self.piece, "values": dict(self.values)}
        out |= {"at": self.at, "id": self.id} if self.at else {}
        out |= {"label": self.label} if self.label != "Fix" else {}
        return out | ({"more": [each.as_json() for each in self.more]} if self.more else {})


@dataclass(frozen=True)
class Flag:
    """A finding as one sentence.

    other : another way to mend it
    unmet : something that was asked for was not made, or not as asked: only a yes of its own passes it
    """

    code: str
    severity: Severity
    message: str
    place: Place | None = None
    fix: Fix | None = None
    other: Fix | None = None
    unmet: bool = False

    def as_json(self) -> dict:
        place = self.place.as_json() if self.place else None
        seed = f"{self.code}|{self.message}|{place}"
        return {
            "id": hashlib.sha256(seed.encode()).hexdigest()[:12],
            "code": self.code,
            "severity": self.severity,
            "message": self.message,
            "place": place,
            **({"unmet": True} if self.unmet else {}),
        } | {name: fix.as_json() for name, fix in (("fix", self.fix), ("other", self.other)) if fix}


@dataclass(frozen=True)
class Reading:
    """A measured result with its unit ('' for counts and words)."""

    name: str
    value: float | int | str | bool
    unit: str = ""

    def as_json(self) -> dict:
        """Raises ValueError for a number that is none: no JSON holds it, so no result would ever be kept."""
        if isinstance(self.value, float) and not math.isfinite(self.value):
            raise ValueError(f"the reading “{self.name}” is {self.value}")
        value = round(self.value, 6) if isinstance(self.value, float) else self.value
        return {"name": self.name, "value": value, "unit": self.unit}


@dataclass(frozen=True)
class StepResult:
    """values : by the names of the step's outputs, each of its type; one that is not there is None to what needs it."""

    values: Mapping[str, Any]
    readings: tuple[Reading, ...] = ()
    flags: tuple[Flag, ...] = ()
    figure: str = ""


@dataclass(frozen=True)
class Over:
    """What a step runs over, once for each.

    what  : scans (all that are known), jaws (the scans that are worked on), bodies (what is made of them, parts too), kinds
            (scans that are of one of these kinds), whole (once for the sheet)
    kinds : of `kinds` which; of `whole`: only while there is one of these
    """

    what: Literal["scans", "jaws", "bodies", "kinds", "whole"]
    kinds: tuple[str, ...] = ()


SCANS, JAWS, BODIES, WHOLE = Over("scans"), Over("jaws"), Over("bodies"), Over("whole")


def over_kinds(kinds: Iterable[str]) -> Over:
    return Over("kinds", tuple(kinds))


def once_with(kinds: Iterable[str]) -> Over:
    return Over("whole", tuple(kinds))


@dataclass(frozen=True)
class Need:
    """One input: the value `value` of the step `step`, for the same address or the nearest above it.

    each     : of everything the step before runs over, as {address: value}
    of       : of every scan of these kinds, as {address: value}
    target   : of the scan this one lies on (see targets.py)
    optional : None where that step gave nothing
    setting  : not what the step gives, but this setting of it; with each, as it stands for each of them
    field    : of a setting of which a person makes many, this of every entry, as {id: value}
    gathered : of every step that gives this type, as {step: value}; step and value are left empty

    The steps `source`, `case` and `shelf` stand for what comes from no step: the scan, a detail of the case, and the record
    that the own setting `value`, or step.setting of another one, has chosen from a shelf of the house ({id, name, data}; None where
    it is gone).
    """

    step: str = ""
    value: str = ""
    each: bool = False
    optional: bool = False
    of: tuple[str, ...] = ()
    target: bool = False
    setting: bool = False
    field: str = ""
    gathered: Gives | None = None


@dataclass(frozen=True)
class Inputs:
    """What apply gets.

    piece  : the address it runs for; * for the whole sheet
    jaw    : upper or lower, of that piece
    jaws   : of a step that runs once: every jaw piece to upper or lower
    points : (k, 3) mm by digest: the point lists that the settings name
    """

    values: Mapping[str, Any]
    piece: str = ""
    jaw: str | None = None
    jaws: Mapping[str, str] = field(default_factory=dict)
    points: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)

    def __getitem__(self, name: str) -> Any:
        return self.values[name]

    def jaw_of(self, address: str) -> str | None:
        """Upper or lower, of a body or a part of one."""
        return next((self.jaws[at] for at in above(address) if at in self.jaws), None)

    def of(self, name: str, address: str) -> Any:
        """From an input that has a value for each: the one for this address, or the nearest above it."""
        found = self.values[name]
        return next(found[at] for at in above(address) if at in found)


@dataclass(frozen=True)
class Beside:
    """When one of these settings is changed, the value that the step last gave is kept beside them: from where they were
    set. anew : where that has become another, the rest of them goes back to the default first."""

    settings: tuple[str, ...]
    anew: bool = False


@dataclass(frozen=True)
class Step:
    """One step of a sheet; see docs/add-a-step.md.

    number    : where it stands on the run sheet; the order of work comes from the needs
    version   : raised when the same inputs and settings give something else
    over      : what it runs over
    gives     : its outputs and their types
    part_of   : the step of the run sheet it is shown with, where it is none of its own
    on_demand : waits for a person
    shows     : meshes the stage shows as soon as they are there; others are made ready when they are first asked for
    through   : {output: input}: while nothing was gathered, these inputs are handed through as they are, without work; of a part none is
    beside    : what is kept beside settings by hand, by the name both of the value and of the setting
    counts    : the settings without what does not count (yet), where a change of that needs no new result
    off       : is it switched off by these settings? Then it gives nothing and asks for nothing
    parts     : the parts it makes of a jaw, as (upper or lower, teeth the case is for in it, settings) -> names like die-16
    nameless  : outputs that show no name whatever was written on a body; of a step that comes after labels any other may
    begins    : the step from which on those parts are worked on by themselves; empty: this one
    upgrades  : {from_version: settings dict -> settings dict}
    """

    name: str
    title: str
    number: int
    version: int
    over: Over
    settings: type[StepSettings]
    needs: Mapping[str, Need]
    gives: Mapping[str, Gives]
    apply: Callable[[Inputs, Any, Run], StepResult]
    about: str = ""
    part_of: str = ""
    on_demand: bool = False
    shows: tuple[str, ...] = ()
    through: Mapping[str, str] = field(default_factory=dict)
    beside: Mapping[str, Beside] = field(default_factory=dict)
    counts: Callable[[Any], StepSettings] | None = None
    off: Callable[[Any], bool] | None = None
    parts: Callable[[str | None, tuple[int, ...], Any], Iterable[str]] | None = None
    nameless: tuple[str, ...] = ()
    begins: str = ""
    upgrades: Mapping[int, Callable[[dict], dict]] = field(default_factory=dict)

    @property
    def shelves(self) -> dict[str, str]:
        """{setting: the shelf it chooses from}."""
        extras = {key: field.json_schema_extra for key, field in self.settings.model_fields.items()}
        return {key: str(extra["shelf"]) for key, extra in extras.items() if isinstance(extra, dict) and extra.get("shelf")}

    def upgraded(self, values: Mapping[str, Any], version: int | None) -> dict[str, Any]:
        """Settings saved under an older version, as this one names them. None: they are this one's."""
        saved = dict(values)
        for number in range(version or self.version, self.version):
            if number in self.upgrades:
                saved = self.upgrades[number](saved)
        return saved

    def check(self, values: Mapping[str, Any], *, version: int | None = None) -> StepSettings:
        """Validated settings, saved ones upgraded first. Raises BadSetting with one sentence."""
        try:
            return self.settings.model_validate(self.upgraded(values, version))
        except ValidationError as error:
            raise BadSetting(self._sentence(error)) from error

    def _sentence(self, error: ValidationError) -> str:
        first = error.errors()[0]
        key = str(first["loc"][0]) if first["loc"] else ""
        known = self.settings.model_fields.get(key)
        if not first["loc"]:
            return f"{self.title}: {str(first['msg']).removeprefix('Value error, ')}."
        if known is None:
            names = ", ".join(self.settings.model_fields) or "none"
            return f"{self.title} has no setting “{key}”. Its settings are: {names}."
        unit = (known.json_schema_extra or {}).get("unit", "") if isinstance(known.json_schema_extra, dict) else ""
        said = str(first["msg"]).removeprefix("Value error, ")
        said = said[0].lower() + said[1:]
        return f"{self.title}, {known.title}: {said}{f' (in {unit})' if unit else ''}."
