"""What a setting can choose from: records of the house, each with an id. These ship with the application; a lead changes them
and adds others."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from ..errors import UnreadableFile
from .house_mark import cleaned, plain_outline


class Printer(BaseModel):
    """The build space: width along x, depth along y, height along z; the side of a pixel; what a layer takes besides its light.

    grey_parts : a pixel at an edge is lit by how much of it is covered, looked at in so many parts across
    thin_layer_mm, thick_layer_mm : layers it prints, from and to
    least_mm : a wall thinner than this does not come out (common practice, no source: some pixels)
    tank_ml  : what its tank holds, where nothing flows in by itself; bottle_ml : a full bottle
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    width_mm: float = Field(ge=10, le=2000, title="Width", json_schema_extra={"unit": "mm"})
    depth_mm: float = Field(ge=10, le=2000, title="Depth", json_schema_extra={"unit": "mm"})
    height_mm: float = Field(ge=10, le=2000, title="Height", json_schema_extra={"unit": "mm"})
    pixel_mm: float = Field(0.05, ge=0.01, le=0.2, title="Pixel", json_schema_extra={"unit": "mm"})
    grey_parts: float = Field(0, ge=0, le=8, title="Grey at edges, parts of a pixel across (0: takes none)")
    lift_s: float = Field(5.0, ge=0, le=120, title="Lift and rest a layer", json_schema_extra={"unit": "s"})
    thin_layer_mm: float = Field(0.01, ge=0.01, le=0.2, title="Thinnest layer", json_schema_extra={"unit": "mm"})
    thick_layer_mm: float = Field(0.2, ge=0.01, le=0.2, title="Thickest layer", json_schema_extra={"unit": "mm"})
    least_mm: float = Field(0.2, ge=0.01, le=2, title="Least wall it prints", json_schema_extra={"unit": "mm"})
    tank_ml: float | None = Field(None, ge=10, le=20_000, title="Tank, where nothing flows in by itself", json_schema_extra={"unit": "ml"})
    bottle_ml: float = Field(1000.0, ge=10, le=20_000, title="A full bottle", json_schema_extra={"unit": "ml"})


class Resin(BaseModel):
    """density_g_ml : cured; 1.1 to 1.2 is usual for models. A layer takes 1.5 to 4 s of light, the first ones ten times that
    (common practice, no source); exposure_s is for 0.05 mm where thick_exposure_s is told too. size_x, size_y, size_z : what makes up for
    its shrinking, on the plate alone."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    density_g_ml: float = Field(1.15, ge=0.5, le=5, title="Density", json_schema_extra={"unit": "g/ml"})
    price_l: float | None = Field(None, ge=0, le=100_000, title="Price of a litre")
    exposure_s: float = Field(2.5, ge=0.1, le=120, title="Light a layer", json_schema_extra={"unit": "s"})
    thick_exposure_s: float | None = Field(None, ge=0.1, le=120, title="Light a layer of 0.1 mm", json_schema_extra={"unit": "s"})
    base_exposure_s: float = Field(25.0, ge=0.1, le=600, title="Light of the first layers", json_schema_extra={"unit": "s"})
    base_layers: float = Field(5, ge=0, le=50, title="First layers")
    die_air_mm: float | None = Field(None, ge=0.01, le=0.3, title="Air round dies, a side", json_schema_extra={"unit": "mm"})
    size_x: float = Field(0.0, ge=-5, le=5, title="Printed larger along the plate’s width", json_schema_extra={"unit": "%"})
    size_y: float = Field(0.0, ge=-5, le=5, title="Along its depth", json_schema_extra={"unit": "%"})
    size_z: float = Field(0.0, ge=-5, le=5, title="Upwards", json_schema_extra={"unit": "%"})


class HouseMark(BaseModel):
    """What is engraved like letters. outline : as house_mark.cleaned gives it; of an SVG file that is made of it first."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    outline: str = Field("", max_length=400_000, title="Mark", json_schema_extra={"drawing": True})

    @field_validator("outline")
    @classmethod
    def _plain(cls, outline: str) -> str:
        if "<" in outline:
            return cleaned(outline)
        if outline:
            plain_outline(outline)
        return outline


class Plain(BaseModel):
    """Nothing but a name and settings."""

    model_config = ConfigDict(extra="forbid", frozen=True)


def sentence(shelf: str, error: ValidationError) -> str:
    """What is wrong with what a record shall hold."""
    first = error.errors()[0]
    known = SHELVES[shelf].model_fields.get(str(first["loc"][0]) if first["loc"] else "")
    said = str(first["msg"]).removeprefix("Value error, ")
    return f"{known.title if known else 'It has no such value'}: {said[0].lower()}{said[1:]}."


def checked(shelf: str, data: dict[str, Any]) -> dict[str, float | str | None]:
    """What a record shall hold, as it is kept; a drawing is worked on, so this may take its time. Raises UnreadableFile."""
    try:
        return SHELVES[shelf].model_validate(data).model_dump()
    except ValidationError as error:
        raise UnreadableFile(sentence(shelf, error), code="invalid") from error


class Record(BaseModel):
    """One record as it was when it was chosen. revision : of the record, 0 as it ships."""

    model_config = ConfigDict(extra="forbid")
    name: str
    revision: int = 0
    data: dict[str, float | str | None] = Field(default_factory=dict)


# Shelf: what its records hold.
SHELVES: dict[str, type[BaseModel]] = {"purpose": Plain, "practice": Plain, "printer": Printer, "resin": Resin, "mark": HouseMark}

# The simulated printers that ship, and what models are made for (common practice, no source).
BUILT_IN: dict[str, dict[str, Record]] = {
    "purpose": {
        "study": Record(name="Study model"),
        "working": Record(name="Working model"),
        "splint": Record(name="Splint"),
        "mouthguard": Record(name="Mouthguard model"),
    },
    "practice": {},
    "printer": {
        "wren": Record(
            name="Wren", data={"width_mm": 144.0, "depth_mm": 82.0, "height_mm": 160.0, "thin_layer_mm": 0.025, "thick_layer_mm": 0.1}
        ),
        "heron": Record(
            name="Heron", data={"width_mm": 198.0, "depth_mm": 124.0, "height_mm": 210.0, "grey_parts": 4, "thin_layer_mm": 0.025}
        ),
    },
    "resin": {
        "plaster": Record(name="Plaster grey", data={"density_g_ml": 1.15, "price_l": None, "thick_exposure_s": 3.6}),
        "sand": Record(name="Sandstone", data={"density_g_ml": 1.18, "price_l": None, "exposure_s": 2.0}),
    },
    # Which marks there are is the house's own.
    "mark": {"none": Record(name="No mark")},
}

# The settings that what ships brings along: how much gum a model needs for what it is made for, and on what a study model stands
# (common practice, no source).
BRINGS: dict[str, dict[str, dict[str, dict[str, Any]]]] = {
    "purpose": {
        "study": {"edge": {"edge": "gum", "gum_mm": 2.0}, "base": {"shape": "squared", "thickness_mm": 12.0, "flush": True}},
        "splint": {"edge": {"edge": "gum", "gum_mm": 4.5}},
        "mouthguard": {"edge": {"edge": "vestibule", "inner": "band"}},
    },
}
