"""What a step is: a name, settings with units and bounds, what it needs, and a pure function."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..errors import BadSetting
from ..progress import Run

Severity = Literal["note", "look", "stop"]


class StepSettings(BaseModel):
    """Settings of one step. One model gives validation, the stored JSON, the API schema and the card's form."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


def setting(
    default: Any, *, label: str, help: str, unit: str = "", main: bool = True, per_jaw: bool = False, form: bool = True, **bounds: Any
) -> Any:  # fmt: skip
    """A field of a StepSettings: label and help in the trade's words, unit, bounds (ge, le); main=False folds it, form=False
    keeps it off the card."""
    extra: dict[str, Any] = {"unit": unit, "main": main, "per_jaw": per_jaw, "form": form}
    return Field(default, title=label, description=help, json_schema_extra=extra, **bounds)


@dataclass(frozen=True)
class Place:
    """A place in space. piece : its id; frame : home, bite or bench; radius_mm : how much to show."""

    piece: str
    point_mm: tuple[float, float, float]
    radius_mm: float = 1.0
    frame: str = "home"

    def as_json(self) -> dict:
        point = [round(float(x), 4) for x in self.point_mm]
        return {"piece": self.piece, "frame": self.frame, "point_mm": point, "radius_mm": round(self.radius_mm, 3)}


@dataclass(frozen=True)
class Flag:
    """A finding as one sentence. fix : the setting a Fix would write, as (step, piece or *, values)."""

    code: str
    severity: Severity
    message: str
    place: Place | None = None
    fix: dict | None = None

    def as_json(self) -> dict:
        place = self.place.as_json() if self.place else None
        seed = f"{self.code}|{self.message}|{place}"
        out = {
            "id": hashlib.sha256(seed.encode()).hexdigest()[:12],
            "code": self.code,
            "severity": self.severity,
            "message": self.message,
            "place": place,
        }
        return out | ({"fix": self.fix} if self.fix else {})


@dataclass(frozen=True)
class Reading:
    """A measured result with its unit ('' for counts and words)."""

    name: str
    value: float | int | str | bool
    unit: str = ""

    def as_json(self) -> dict:
        value = round(self.value, 6) if isinstance(self.value, float) else self.value
        return {"name": self.name, "value": value, "unit": self.unit}


@dataclass(frozen=True)
class FileValue:
    """A file a step gives out, by the digest of its bytes once stored."""

    name: str
    data: bytes


@dataclass(frozen=True)
class StepResult:
    """values : name to Mesh, FileValue or JSON (of a case step: {piece: value} where `by_piece`)."""

    values: Mapping[str, Any]
    readings: tuple[Reading, ...] = ()
    flags: tuple[Flag, ...] = ()
    figure: str = ""


@dataclass(frozen=True)
class Need:
    """One input. step and value name the output; each: taken from every jaw as {piece: value}; of : from every piece
    that is one of these kinds instead (see graph.kinds_of); target : from the piece this one lies on (see targets.py);
    optional: None where that step gave nothing."""

    step: str
    value: str
    each: bool = False
    optional: bool = False
    of: tuple[str, ...] = ()
    target: bool = False


@dataclass(frozen=True)
class Inputs:
    """What apply gets. piece and jaw are those of a piece step; jaws maps every jaw piece to upper or lower."""

    values: Mapping[str, Any]
    piece: str = ""
    jaw: str | None = None
    jaws: Mapping[str, str] = field(default_factory=dict)

    def __getitem__(self, name: str) -> Any:
        return self.values[name]


@dataclass(frozen=True)
class Beside:
    """When one of these settings is changed, the value that the step last gave is kept beside them: from where they were
    set. anew : where that has become another, the rest of them goes back to the default first."""

    settings: tuple[str, ...]
    anew: bool = False


@dataclass(frozen=True)
class Step:
    """One step of the run sheet; see docs/add-a-step.md.

    scope : 'piece' (each jaw by itself) or 'case'. every_piece : also pieces that are no jaws; of : pieces of these kinds
    instead. part_of : the step of the run sheet it is shown with, where it is none of its own. on_demand : waits for a
    person. beside : what is kept beside settings by hand, by the name both of the value and of the setting. upgrades :
    {from_version: settings dict -> settings dict}. counts : the settings without what does not count (yet), where a change
    of that needs no new result. shows : the mesh values the stage shows.
    """

    name: str
    title: str
    number: int
    version: int
    scope: Literal["piece", "case"]
    settings: type[StepSettings]
    needs: Mapping[str, Need]
    apply: Callable[[Inputs, Any, Run], StepResult]
    about: str = ""
    every_piece: bool = False
    of: tuple[str, ...] = ()
    part_of: str = ""
    on_demand: bool = False
    shows: tuple[str, ...] = ()
    beside: Mapping[str, Beside] = field(default_factory=dict)
    counts: Callable[[Any], StepSettings] | None = None
    upgrades: Mapping[int, Callable[[dict], dict]] = field(default_factory=dict)

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
        if known is None:
            names = ", ".join(self.settings.model_fields) or "none"
            return f"{self.title} has no setting “{key}”. Its settings are: {names}."
        unit = (known.json_schema_extra or {}).get("unit", "") if isinstance(known.json_schema_extra, dict) else ""
        said = str(first["msg"]).removeprefix("Value error, ")
        said = said[0].lower() + said[1:]
        return f"{self.title}, {known.title}: {said}{f' (in {unit})' if unit else ''}."
