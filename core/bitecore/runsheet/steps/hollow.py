"""Hollow: what is taken out of a body so that it costs less and cures evenly. Its drains are a part of it (drains.py)."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...engine.gives import RESERVES, SOLIDS, Solid, Solids
from ...engine.model import BODIES, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import Mesh
from ...ops.cavity import Keep, cavity
from ...ops.clip import frame_of
from ...progress import Run


class HollowSettings(StepSettings):
    style: Literal["solid", "open", "closed"] = setting(
        "solid", label="Inside", help="Solid; hollow and open underneath, with drains at the rim; or hollow with a floor and drains."
    )
    wall_mm: float = setting(
        2.0, ge=0.8, le=8, unit="mm", label="Wall", help="Nowhere thinner. Under 1.5 mm models break (common practice)."
    )
    floor_mm: float = setting(2.0, ge=0.8, le=8, unit="mm", label="Floor", help="Of a body that is closed underneath.", main=False)
    drain_mm: float = setting(3.0, ge=1.5, le=8, unit="mm", label="Drains, wide", help="Holes through the wall.", main=False)


# The wall may be thinner than asked by so much at most (a part of what the tests hold).
_THIN_MM = 0.05


def apply(inputs: Inputs, settings: HollowSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    stand = inputs["stand"]
    rotation = frame_of(stand["up"])
    local = body.with_vertices(body.vertices_mm @ rotation.T)
    floor = settings.floor_mm if settings.style == "closed" else None
    keep = [
        Keep(rotation @ np.array(each["from_mm"]), rotation @ np.array(each["to_mm"]), each["radius_mm"])
        for given in inputs["reserves"].values() for each in given
    ]  # fmt: skip
    made = cavity(local, wall_mm=settings.wall_mm, floor_mm=floor, keep=keep, run=run)
    if made.mesh is None:
        text = f"With a wall of {settings.wall_mm:.1f} mm no room is left inside, so the body stays solid."
        return StepResult({"solids": Solids()}, (), (Flag("no-room", "look", text),), "solid")
    solids = Solids([Solid("cut", made.mesh.with_vertices(made.mesh.vertices_mm @ rotation), "the cavity")])
    readings = (Reading("thinnest wall", made.thinnest_mm, "mm"),)
    return StepResult({"solids": solids}, readings, _flags(settings, made.thinnest_mm), f"wall {settings.wall_mm:.1f} mm")


def _flags(settings: HollowSettings, thinnest: float) -> tuple[Flag, ...]:
    flags = []
    if thinnest < settings.wall_mm - _THIN_MM:
        flags.append(Flag("thin-wall", "look", f"The wall is {thinnest:.2f} mm thick at its thinnest, less than asked."))
    if settings.wall_mm < 1.5:
        flags.append(Flag("weak-wall", "look", f"A wall of {settings.wall_mm:.1f} mm breaks easily: 1.5 mm is usual at least."))
    return tuple(flags)


STEP = Step(
    name="hollow",
    title="Hollow",
    number=6,
    version=2,
    over=BODIES,
    settings=HollowSettings,
    needs={"body": Need("base", "body"), "stand": Need("foot", "foot"), "reserves": Need(gathered=RESERVES)},
    gives={"solids": SOLIDS},
    apply=apply,
    about="What is taken out of the inside.",
    off=lambda settings: settings.style == "solid",
    # How wide drains are is no matter of the cavity: see drains.py.
    counts=lambda settings: settings.model_copy(update={"drain_mm": 3.0}),
)
