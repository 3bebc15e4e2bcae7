"""Part of Hollow: the drains that let the resin out, clear of the struts that stand on the wall."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...engine.gives import SOLIDS, Solid, Solids
from ...engine.model import BODIES, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...mesh import Mesh
from ...ops.clip import frame_of
from ...ops.drains import Drain, drains
from ...parts.pin_places import ROOT_MM, STRUT_MM
from ...progress import Run


class DrainsSettings(StepSettings):
    pass


# From a drain's edge to a strut.
_CLEAR_MM = 0.5


def apply(inputs: Inputs, settings: DrainsSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    room = [solid.mesh for solid in inputs["cavity"] or () if solid.op == "cut"]
    if not room:
        return StepResult({"solids": Solids()})
    rotation = frame_of(inputs["stand"]["up"])
    local = body.with_vertices(body.vertices_mm @ rotation.T)
    cavity = room[0].with_vertices(room[0].vertices_mm @ rotation.T)
    front = rotation @ np.array(inputs["stand"]["front"])
    floor = inputs["floor"] if inputs["style"] == "closed" else None
    wide = inputs["wide"]
    off = [_rooted(rotation @ np.array(s["from_mm"]), rotation @ np.array(s["to_mm"])) for s in inputs["struts"] or ()]
    if inputs["notch"]:
        a, b = (rotation @ np.array(p) for p in inputs["notch"]["line"])
        off.append((a, b))
    clear = STRUT_MM / 2 + wide / 2 + _CLEAR_MM
    out = drains(local, cavity, wall_mm=inputs["wall"], wide_mm=wide, floor_mm=floor, front=front, off=off, clear_mm=clear)
    solids = Solids(Solid("cut", d.mesh.with_vertices(d.mesh.vertices_mm @ rotation), f"drain {n}") for n, d in enumerate(out, 1))
    flags = _flags(inputs.piece, inputs["style"], wide, out, rotation)
    return StepResult({"solids": solids}, (Reading("drains", len(out)),), flags, f"{len(out)} drains")


def _rooted(post: NDArray, wall: NDArray) -> tuple[NDArray, NDArray]:
    """A strut with what of it goes into the body."""
    way = wall - post
    return post, wall + way / max(float(np.linalg.norm(way)), 1e-9) * ROOT_MM


def _flags(piece: str, style: str, wide: float, out: list[Drain], rotation: NDArray) -> tuple[Flag, ...]:
    how = "Open underneath" if style == "open" else "Closed underneath"
    at = out[0].at_mm @ rotation if out else None
    place = None if at is None else Place(piece, (float(at[0]), float(at[1]), float(at[2])), 3.0)
    flags = [Flag("hollow", "note", f"{how}, {len(out)} drain{'s' * (len(out) != 1)} of {wide:.1f} mm.", place)]
    if not out:
        text = "No place was found for a drain: resin stays inside. Take a thinner wall, or leave it open underneath."
        flags.append(Flag("no-drain", "look", text))
    return tuple(flags)


STEP = Step(
    name="drains",
    title="Drains",
    number=6,
    version=2,
    over=BODIES,
    part_of="hollow",
    settings=DrainsSettings,
    needs={
        "body": Need("base", "body"),
        "stand": Need("foot", "foot"),
        "cavity": Need("hollow", "solids", optional=True),
        "struts": Need("articulate", "struts", optional=True),
        "notch": Need("notch", "notch", optional=True),
        "style": Need("hollow", "style", setting=True),
        "wall": Need("hollow", "wall_mm", setting=True),
        "floor": Need("hollow", "floor_mm", setting=True),
        "wide": Need("hollow", "drain_mm", setting=True),
    },
    gives={"solids": SOLIDS},
    apply=apply,
    about="The drains of hollow bodies.",
)
