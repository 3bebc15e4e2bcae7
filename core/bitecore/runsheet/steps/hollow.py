"""Hollow: what is taken out of a body so that it costs less and cures evenly. Its drains are a part of it (drains.py)."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...engine.entries import Entry, EntryId
from ...engine.gives import RESERVES, SOLIDS, Solid, Solids
from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...ops.cavity import Keep, Thicker, cavity
from ...ops.clip import frame_of
from ...ops.ribs import Stiffened
from ...progress import Run

_Mm = Annotated[float, Field(ge=-1e4, le=1e4)]
_HOLLOW = {"style": ("open", "closed")}


class SetDrain(Entry):
    """A drain put where a person wants it.

    name : of the one that is moved or, without a place, left out; empty: one more
    at   : where it comes out, in the scan's own coordinates (mm)
    """

    name: Annotated[str, Field(pattern=r"^(|[1-9]\d?)$")] = ""
    at: tuple[_Mm, _Mm, _Mm] | None = None


class HollowSettings(StepSettings):
    style: Literal["solid", "open", "closed"] = setting(
        "solid", label="Inside", help="Solid; hollow and open underneath, with drains at the rim; or hollow with a floor and drains.",
        words={"open": "Hollow, open below", "closed": "Hollow, closed"},
    )  # fmt: skip
    wall_mm: float = setting(
        2.0, ge=0.8, le=8, unit="mm", label="Wall", help="Nowhere thinner. Under 1.5 mm models break (common practice).", when=_HOLLOW
    )
    teeth_mm: float | None = setting(
        None, ge=0.8, le=10, unit="mm", label="Wall under teeth", help="Where it shall be thicker there. Empty: as thick as the rest.",
        main=False, when=_HOLLOW,
    )  # fmt: skip
    floor_mm: float = setting(
        2.0, ge=0.8, le=8, unit="mm", label="Floor", help="Of a body that is closed underneath.", main=False, when={"style": ("closed",)}
    )
    stiff: Literal["none", "ribs", "honeycomb"] = setting(
        "none",
        label="Stiffened by",
        help="Upright walls inside, where the model is wide; resin passes under them.",
        main=False,
        when=_HOLLOW,
    )
    stiff_mm: float = setting(
        1.2, ge=0.8, le=4, unit="mm", label="Each, thick", help="Of ribs and honeycombs.", main=False,
        when={**_HOLLOW, "stiff": ("ribs", "honeycomb")},
    )  # fmt: skip
    drain_count: int = setting(3, ge=1, le=8, label="Drains", help="In the largest room; any other has two.", main=False, when=_HOLLOW)
    drain_mm: float = setting(3.0, ge=1.5, le=8, unit="mm", label="Drains, wide", help="Their diameter.", main=False, when=_HOLLOW)
    through: Literal["wall", "floor"] = setting(
        "wall", label="Drains through", help="The wall, so that it lies flat on the plate; or the floor, where it stands on supports.",
        main=False, when={"style": ("closed",)},
    )  # fmt: skip
    drains: dict[EntryId, SetDrain] = setting(
        {}, label="Drains by hand", help="Drains put elsewhere, left out or added.", form=False, max_length=12
    )
    compare: bool = setting(False, label="Compare", help="What it takes solid, open and closed, side by side.", form=False)


# The wall may be thinner than asked by so much at most (a part of what the tests hold).
_THIN_MM = 0.05


def apply(inputs: Inputs, settings: HollowSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    foot = inputs["foot"]
    rotation, origin = frame_of(foot["up"], foot["front"]), np.array(foot["origin"])
    local = body.with_vertices((body.vertices_mm - origin) @ rotation.T)
    made = cavity(
        local,
        wall_mm=settings.wall_mm,
        floor_mm=settings.floor_mm if settings.style == "closed" else None,
        keep=[
            Keep(rotation @ (np.array(each["from_mm"]) - origin), rotation @ (np.array(each["to_mm"]) - origin), each["radius_mm"])
            for given in inputs["reserves"].values() for each in given
        ],
        thicker=_thicker(inputs["teeth"], settings, rotation, origin),
        stiffened=None if settings.stiff == "none" else Stiffened(settings.stiff, settings.stiff_mm),
        run=run,
    )  # fmt: skip
    if made.mesh is None:
        text = f"With a wall of {settings.wall_mm:.1f} mm no room is left inside, so the body stays solid."
        return StepResult({"solids": Solids()}, (), (Flag("no-room", "look", text),), "solid")
    solids = Solids([Solid("cut", made.mesh.with_vertices(made.mesh.vertices_mm @ rotation + origin), "the cavity")])
    readings = (Reading("thinnest wall", made.thinnest_mm, "mm"),)
    return StepResult({"solids": solids}, readings, _flags(settings, made.thinnest_mm, made.ribbed), f"wall {settings.wall_mm:.1f} mm")


def _thicker(teeth: Mesh | None, settings: HollowSettings, rotation: np.ndarray, origin: np.ndarray) -> Thicker | None:
    if settings.teeth_mm is None or teeth is None or teeth.channel is None:
        return None
    on = np.nan_to_num(teeth.channel.values) > 0
    crowns = teeth.of_faces(on[teeth.faces].all(1))
    return Thicker(crowns.with_vertices((crowns.vertices_mm - origin) @ rotation.T), settings.teeth_mm)


def _flags(settings: HollowSettings, thinnest: float, ribbed: bool) -> tuple[Flag, ...]:
    flags = []
    if thinnest < settings.wall_mm - _THIN_MM:
        flags.append(Flag("thin-wall", "look", f"The wall is {thinnest:.2f} mm thick at its thinnest, less than asked."))
    if settings.wall_mm < 1.5:
        text = f"A wall of {settings.wall_mm:.1f} mm breaks easily: 1.5 mm is usual at least."
        flags.append(Flag("weak-wall", "look", text, fix=Fix("hollow", "*", {"wall_mm": 1.5}, label="1.5 mm")))
    if settings.stiff != "none" and not ribbed:
        flags.append(Flag("nowhere-wide", "note", f"The model is nowhere wide enough for {settings.stiff}: none was made."))
    return tuple(flags)


_DRAINS = ("drain_count", "drain_mm", "through", "drains", "compare")

STEP = Step(
    name="hollow",
    title="Hollow",
    number=6,
    version=9,
    over=BODIES,
    settings=HollowSettings,
    needs={
        "body": Need("base", "body"),
        "foot": Need("foot", "foot"),
        "teeth": Need("teeth", "mesh", optional=True),
        "reserves": Need(gathered=RESERVES),
    },
    gives={"solids": SOLIDS},
    nameless=("solids",),
    apply=apply,
    about="What is taken out of the inside.",
    off=lambda settings: settings.style == "solid",
    # What drains there are is no matter of the cavity: see drains.py.
    counts=lambda settings: settings.model_copy(update={key: HollowSettings.model_fields[key].default for key in _DRAINS}),
)
