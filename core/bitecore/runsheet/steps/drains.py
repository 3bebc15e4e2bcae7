"""Part of Hollow: the drains that let the resin out and the air in, clear of what stands on the wall and of teeth; and what stays
inside all the same, as the body stands on its plate."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ...engine.gives import SOLIDS, Solid, Solids, json_of
from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Place, Reading, Step, StepResult, StepSettings
from ...mesh import Mesh
from ...ops.drains import Ask, Drain, drains, rooms_without_air
from ...ops.pockets import Pocket, pockets
from ...ops.rigid import rounded
from ...ops.voxels import Voxels, voxels
from ...parts.pin_places import ROOT_MM
from ...progress import Run
from ..framed import Frame, standing_on
from ..part_names import part_of
from ..values import Drained


class DrainsSettings(StepSettings):
    pass


# From a drain's edge to a strut.
_CLEAR_MM = 0.5
# Resin is looked for on a grid of another phase than the cavity was cut on: its corners lie on that one.
_CELL_MM, _PHASE = 0.4, (0.3819, 0.2361, 0.0902)
# Less resin in one place, and smaller rooms on the plate, are not worth a word; more drains find no place by themselves.
_LEAST_ML, _LEAST_MM2, _MOST = 0.05, 20.0, 12
# A drain that stands so near to where it was put is there.
_TOLD_MM = 1.0


def apply(inputs: Inputs, settings: DrainsSettings, run: Run) -> StepResult:
    body: Mesh = inputs["body"]
    room = [solid.mesh for solid in inputs["cavity"] or () if solid.op == "cut"]
    if not room:
        return StepResult({"solids": Solids(), "drains": []})
    foot = inputs["foot"]
    frame = standing_on(foot)
    local, cavity = frame.mesh(body), frame.mesh(room[0])
    ask = _ask(inputs, frame)
    bottom = float(local.vertices_mm[:, 2].min())
    run.tick(0.1, "places for drains")
    made = drains(local, cavity, ask)
    run.tick(0.4, "where resin stays")
    grid = voxels(local, cell=_CELL_MM, pad=4 * _CELL_MM, phase=_PHASE)
    best = _more(local, cavity, ask, made, grid, grid.of(cavity).inside, bottom)
    made, left, shut = best.made, best.left, best.shut_mm2
    solids = Solids(Solid("cut", frame.home_mesh(d.mesh), f"drain {n}") for n, d in enumerate(made, 1))
    says = _Says(inputs, frame)
    flags = [*says.made(made), *says.put(made, ask), *says.left(left), *says.shut(shut, made, cavity, bottom), *says.air(cavity, made)]
    readings = (
        Reading("drains", len(made)),
        Reading("resin that stays inside", sum(p.ml for p in left), "ml"),
        Reading("largest room shut in on the plate", shut, "mm²"),
    )
    values = {"solids": solids, "drains": [{"name": d.name, "at_mm": rounded(frame.home(d.at_mm))} for d in made]}
    return StepResult(values, readings, tuple(flags), f"{len(made)} drains")


def _ask(inputs: Inputs, frame: Frame) -> Ask:
    closed, wide = inputs["style"] == "closed", inputs["wide"]
    off = [_rooted(frame.of(s["from_mm"]), frame.of(s["to_mm"])) for s in inputs["struts"] or ()]
    if inputs["notch"]:
        a, b = (frame.of(p) for p in inputs["notch"]["line"])
        off.append((a, b))
    for label in inputs["labels"] or ():
        off += [(a, b) for row in label["lines"] for a, b in pairwise(frame.of(row))]
    strut = max((s["wide_mm"] for s in inputs["struts"] or ()), default=0.0)
    entries = inputs["by_hand"]
    names = {key: entry["name"] or key for key, entry in entries.items()}
    teeth: Mesh | None = inputs["teeth"]
    bar = None
    if teeth is not None and teeth.channel is not None:
        bar = frame.of(teeth.vertices_mm[np.nan_to_num(teeth.channel.values) > 0])
    return Ask(
        wall_mm=inputs["wall"], wide_mm=wide, front=np.array([0.0, -1.0, 0.0]), floor_mm=inputs["floor"] if closed else None,
        down=_through_floor(inputs), count=inputs["count"],
        put={names[k]: frame.of(e["at"]) for k, e in entries.items() if e["at"] is not None},
        without=frozenset(names[k] for k, e in entries.items() if e["at"] is None),
        off=off, clear_mm=strut / 2 + wide / 2 + _CLEAR_MM, bar=bar,
    )  # fmt: skip


def _through_floor(inputs: Inputs) -> bool:
    """Never through the face that lies on an articulator's block."""
    return inputs["style"] == "closed" and inputs["through"] == "floor" and not _bears(inputs)


def _bears(inputs: Inputs) -> bool:
    return inputs["held"] == "plates" and not part_of(inputs.piece)


def _rooted(post: NDArray, wall: NDArray) -> tuple[NDArray, NDArray]:
    """A strut with what of it goes into the body."""
    way = wall - post
    return post, wall + way / max(float(np.linalg.norm(way)), 1e-9) * ROOT_MM


@dataclass(frozen=True)
class _Stays:
    """left : where resin stays in spite of these drains; shut_mm2 : the largest room that is shut in on the plate"""

    made: list[Drain]
    left: list[Pocket]
    shut_mm2: float


def _more(local: Mesh, cavity: Mesh, ask: Ask, made: list[Drain], grid: Voxels, empty: NDArray[np.bool_], bottom: float) -> _Stays:
    """Where a person has put none, one more is made for every pocket that is left, while that helps."""

    def stays(drained: list[Drain]) -> _Stays:
        solid = grid.inside & ~empty
        for each in drained:
            solid &= ~grid.of(each.mesh).inside
        plate = None if ask.down else bottom
        return _Stays(drained, *pockets(Voxels(solid, grid.low, grid.cell), plate_mm=plate, least_ml=_LEAST_ML, within=empty))

    best = stays(made)
    for _ in range(3):
        made, left = best.made, best.left
        if not left or ask.put or ask.without or len(made) >= _MOST:
            break
        names = {f"x{k}": pocket.low_mm for k, pocket in enumerate(left[: _MOST - len(made)])}
        more = [d for d in drains(local, cavity, replace(ask, put=names, count=0)) if d.name in names]
        number = max((int(d.name) for d in made if d.name.isdigit()), default=0)
        now = stays([*made, *(replace(d, name=str(number + k)) for k, d in enumerate(more, 1))])
        if sum(p.ml for p in now.left) > sum(p.ml for p in left) - _LEAST_ML:
            break
        best = now
    return best


class _Says:
    """Findings as sentences with their places, and what would mend them."""

    def __init__(self, inputs: Inputs, frame: Frame) -> None:
        self.inputs, self.frame = inputs, frame

    def at(self, point: NDArray, radius: float = 3.0) -> Place:
        x, y, z = self.frame.home(point).tolist()
        return Place(self.inputs.piece, (x, y, z), radius)

    def drain_at(self, point: NDArray) -> Fix:
        """One more drain there."""
        at = tuple(round(float(x), 2) for x in self.frame.home(point))
        return Fix("hollow", self.inputs.piece, {"name": "", "at": at}, at="drains", label="Add a drain")

    def made(self, made: list[Drain]) -> list[Flag]:
        how = "Open underneath" if self.inputs["style"] == "open" else "Closed underneath"
        wide = self.inputs["wide"]
        place = self.at(made[0].at_mm) if made else None
        flags = [Flag("hollow", "note", f"{how}, {len(made)} drain{'s' * (len(made) != 1)} of {wide:.1f} mm.", place)]
        if not made:
            text = "There is no drain: resin stays inside. Take a thinner wall, or leave it open underneath."
            flags.append(Flag("no-drain", "look", text, unmet=True))
        if made and _bears(self.inputs):
            flags += self.bearing()
        if made and _through_floor(self.inputs):
            text = "Holes in the floor are shut while the body lies flat on the plate: stand it on supports, or lead them through the wall."
            wall = Fix("hollow", self.inputs.piece, {"through": "wall"}, label="Through the wall")
            flags.append(Flag("floor-drains", "look", text, fix=wall))
        return flags

    def bearing(self) -> list[Flag]:
        """The face that lies on an articulator's block stays free of drains (common practice, no source)."""
        if self.inputs["style"] == "open":
            text = "The cavity and its drains open into the face that lies on the block. Fix closes it; the drains go through the wall."
            closed = Fix("hollow", self.inputs.piece, {"style": "closed", "through": "wall"}, label="Closed underneath")
            return [Flag("drains-bear", "look", text, fix=closed)]
        if self.inputs["through"] == "floor":
            return [Flag("drains-bear", "note", "The drains go through the wall: the face that lies on the block stays whole.")]
        return []

    def put(self, made: list[Drain], ask: Ask) -> list[Flag]:
        flags = []
        there = {d.name: d for d in made}
        for name, at in ask.put.items():
            if name not in there:
                text = "A drain cannot be made where it was put: no wall, or a tooth, is near. It is left out."
                flags.append(Flag("drain-not-there", "look", text, self.at(at), unmet=True))
            elif (off := float(np.linalg.norm(there[name].at_mm - at))) > _TOLD_MM + ask.wide_mm:
                text = f"A drain stands {off:.1f} mm from where it was put: nearer there is no way for it."
                flags.append(Flag("drain-moved", "note", text, self.at(there[name].at_mm)))
        return flags

    def left(self, left: list[Pocket]) -> list[Flag]:
        return [
            Flag(
                "resin-stays", "look", f"{p.ml:.2f} ml of resin stay in here: nothing below lets them out.", self.at(p.low_mm),
                fix=self.drain_at(p.low_mm),
            )
            for p in left[:5]
        ]  # fmt: skip

    def shut(self, area: float, made: list[Drain], cavity: Mesh, bottom: float) -> list[Flag]:
        if area < _LEAST_MM2:
            return []
        low = cavity.vertices_mm[cavity.vertices_mm[:, 2] < max(bottom, cavity.vertices_mm[:, 2].min()) + 1.0]
        far = low[:, 1] if not made else np.min([np.linalg.norm(low - d.at_mm, axis=1) for d in made], axis=0)
        at = low[int(np.argmax(far))]
        text = f"On the plate a room of {area:.0f} mm² is shut in: it pulls at the film and can crack."
        return [Flag("suction", "look", text, self.at(at), fix=self.drain_at(at))]

    def air(self, cavity: Mesh, made: list[Drain]) -> list[Flag]:
        text = "This room has fewer than two drains: no air comes in while resin leaves."
        return [Flag("no-air", "look", text, self.at(at), fix=self.drain_at(at)) for at in rooms_without_air(cavity, made)]


STEP = Step(
    name="drains",
    title="Drains",
    number=6,
    version=13,
    over=BODIES,
    part_of="hollow",
    settings=DrainsSettings,
    needs={
        "body": Need("base", "body"),
        "foot": Need("foot", "foot"),
        "cavity": Need("hollow", "solids", optional=True),
        "struts": Need("articulate", "struts", optional=True),
        "notch": Need("notch", "notch", optional=True),
        "labels": Need("label", "labels", optional=True),
        "teeth": Need("teeth", "mesh", optional=True),
        "style": Need("hollow", "style", setting=True),
        "wall": Need("hollow", "wall_mm", setting=True),
        "floor": Need("hollow", "floor_mm", setting=True),
        "wide": Need("hollow", "drain_mm", setting=True),
        "count": Need("hollow", "drain_count", setting=True),
        "through": Need("hollow", "through", setting=True),
        "by_hand": Need("hollow", "drains", setting=True),
        "held": Need("articulate", "style", setting=True),
    },
    gives={"solids": SOLIDS, "drains": json_of(list[Drained])},
    nameless=("solids", "drains"),
    apply=apply,
    about="The drains of hollow bodies.",
)
