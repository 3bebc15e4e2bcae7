"""Part of Articulate: dies. Teeth that are worked on come out of the model on shafts and go back to the same place; sockets hold them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator

from ...anatomy.notation import tooth
from ...anatomy.teeth.numbers import numbers_of_faces
from ...engine.entries import Entry, EntryId
from ...engine.gives import RESERVES, SOLIDS, Solid, Solids, json_of
from ...engine.model import JAWS, Flag, Inputs, Need, Step, StepResult, StepSettings, setting
from ...errors import BadSetting
from ...mesh import Mesh
from ...ops.clip import frame_of
from ...ops.rigid import rounded
from ...parts.die_plan import DieSizes
from ...parts.dies import Stands, Wanted, dies
from ...progress import Run
from ..died import asked, flags, part_name, readings, told, tongues
from ..values_held import Die

_Unit = Annotated[float, Field(ge=-1, le=1)]
_MADE: dict[str, tuple[Any, ...]] = {"dies": ("chart",)}
# Where neither a person nor the resin's record says (judgement; the fit strip tells).
_AIR_MM = 0.06
# Walls are moved by so much at most.
_MOVED_MM = 2.0


class SetTooth(Entry):
    """What a person says of a tooth.

    kind  : die; loose: it comes out, its gum as it is; left: it stays
    way   : it comes out along it, in the jaw's own coordinates
    opens_mm : contacts of others may be opened so far
    walls : by the number of the tooth beside it, how far (mm) the wall between stands off its place half way, towards that
    """

    fdi: int
    kind: Literal["die", "loose", "left"] = "die"
    way: tuple[_Unit, _Unit, _Unit] | None = None
    opens_mm: float | None = Field(None, ge=0, le=3)
    walls: dict[int, Annotated[float, Field(ge=-_MOVED_MM, le=_MOVED_MM)]] = Field(default_factory=dict, max_length=6)

    @field_validator("fdi")
    @classmethod
    def _is_one(cls, fdi: int) -> int:
        try:
            return tooth(fdi).fdi
        except BadSetting as error:
            raise ValueError(error.message) from error

    @field_validator("way")
    @classmethod
    def _goes(cls, way: tuple[float, float, float] | None) -> tuple[float, float, float] | None:
        if way is not None and np.linalg.norm(way) < 0.5:
            raise ValueError("a way has a length of one")
        return way


class DiesSettings(StepSettings):
    dies: Literal["none", "chart"] = setting(
        "none", label="Dies", help="Teeth that come out of the model: those on the case’s chart, and others that you take out by hand.",
        words={"none": "None", "chart": "Of the chart’s teeth"},
    )  # fmt: skip
    die_air_mm: float | None = setting(
        None, ge=0.01, le=0.3, unit="mm", label="Air round shafts", when=_MADE,
        help="On each side. Empty: what stands with the resin on the house's shelf, found with the fit strip there; else 0.06.",
    )  # fmt: skip
    die_deep_mm: float = setting(10.0, ge=5, le=25, unit="mm", label="Shafts, long", help="At most; the base gives less.", when=_MADE)
    die_taper_deg: float = setting(1.0, ge=0, le=6, unit="°", label="Shafts, taper", help="Of their walls.", main=False, when=_MADE)
    ditch_mm: float = setting(
        1.2, ge=0, le=3, unit="mm", label="Ditch, deep", help="So far the gum goes down round a die, below its margin.", when=_MADE
    )
    strip_mm: float = setting(
        0.35, ge=0.1, le=2, unit="mm", label="Ditch off the margin", help="So much gum stays round the tooth.", main=False, when=_MADE
    )
    head_room_mm: float = setting(
        0.15, ge=0.05, le=0.5, unit="mm", label="Room round heads", help="Between a die’s head and what stands beside it.",
        main=False, when=_MADE,
    )  # fmt: skip
    socket_wall_mm: float = setting(
        1.0, ge=0.5, le=4, unit="mm", label="Walls of sockets", help="Of the model round a socket and between two, at least.",
        main=False, when=_MADE,
    )  # fmt: skip
    contact_mm: float = setting(
        0.15, ge=0, le=1, unit="mm", label="Contacts, opened by", main=False, when=_MADE,
        help="A wall takes so much of a tooth that stays; where it takes more you are asked.",
    )  # fmt: skip
    seat_under_mm: float = setting(2.0, ge=1, le=10, unit="mm", label="Under the seat", help="Of the model.", main=False, when=_MADE)
    push_hole_mm: float = setting(
        3.0, ge=0, le=6, unit="mm", label="Hole from below", help="To push a die out; smaller under a narrow one. 0: none.",
        main=False, when=_MADE,
    )  # fmt: skip
    window_mm: float = setting(
        2.5, ge=0, le=5, unit="mm", label="Window", help="On the cheek’s side, to see that a die is down. 0: none.", main=False, when=_MADE
    )
    vent_mm: float = setting(
        1.5, ge=0, le=3, unit="mm", label="Vent", main=False, when=_MADE,
        help="A groove along the underside from the hole to the cheek’s side, so that the plate shuts no room in. 0: none.",
    )  # fmt: skip
    taken: dict[EntryId, SetTooth] = setting(
        {}, label="Teeth by hand", help="What comes out besides, what stays, which way.", form=False, max_length=40
    )

    def sizes(self, resin: Mapping[str, Any] | None) -> DieSizes:
        """resin : its record on the shelf"""
        own = (resin or {}).get("data", {}).get("die_air_mm")
        return DieSizes(
            air=self.die_air_mm or own or _AIR_MM, taper_deg=self.die_taper_deg, strip=self.strip_mm, ditch=self.ditch_mm,
            room=self.head_room_mm, wall=self.socket_wall_mm, under=self.seat_under_mm, deep=self.die_deep_mm, hole=self.push_hole_mm,
            window=self.window_mm, vent=self.vent_mm,
        )  # fmt: skip


def apply(inputs: Inputs, settings: DiesSettings, run: Run) -> StepResult:
    jaw = inputs.jaw or "upper"
    chart = [int(word) for word in inputs["chart"].split()]
    wanted = asked([fdi for fdi in chart if tooth(fdi).jaw == jaw], jaw, settings)
    if not wanted:
        text = f"No tooth of the {jaw} is on the case’s chart, and none is taken out by hand: there is no die here."
        return StepResult({"solids": Solids(), "reserves": [], "dies": []}, (), (Flag("no-dies", "note", text),))
    body, foot = inputs["body"], inputs["foot"]
    rotation = frame_of(foot["up"], foot["front"])
    up, front = rotation[2], -rotation[1]
    number = _numbers(body, inputs["teeth"])
    lowest = body.vertices_mm[int((body.vertices_mm @ up).argmin())]
    sizes = settings.sizes(inputs["resin"])
    stands = Stands(body, number, up, front, lowest, tongues(list(wanted), up, front, jaw))
    made = dies(stands, [_wanted(fdi, entry) for fdi, entry in wanted.items()], sizes, number=inputs["number"], run=run)
    listed = [told(die, wanted[die.wanted.fdi], up, die.teeth.own, die.teeth.others) for die in made.made]
    solids = Solids(Solid("part", die.mesh, each["part"]) for die, each in zip(made.made, listed, strict=True))
    solids += [Solid("cut", die.cut, f"the socket of {die.wanted.fdi}") for die in made.made]
    reserves = [
        {"name": "socket", "from_mm": a.tolist(), "to_mm": b.tolist(), "radius_mm": float(wide)}
        for die in made.made
        for (a, b), wide in zip(die.lines, die.wide, strict=True)
    ]
    values = {"solids": solids, "reserves": reserves, "dies": listed}
    said = tuple(flags(made, listed, inputs, settings))
    return StepResult(values, readings(made, listed, sizes.air), said, f"{len(listed)} die{'s' * (len(listed) != 1)}")


def _wanted(fdi: int, entry: SetTooth | None) -> Wanted:
    if entry is None:
        return Wanted(fdi)
    way = None if entry.way is None else np.array(rounded(entry.way)) / np.linalg.norm(entry.way)
    return Wanted(fdi, entry.kind == "die", way, dict(entry.walls))


def _numbers(body: Mesh, teeth: Mesh | None) -> np.ndarray:
    """(m,) which tooth each face of a body is of, by the faces of the scan it came from; 0 gum."""
    out = np.zeros(body.triangles, np.int16)
    if teeth is None or teeth.channel is None or not (teeth.source >= 0).any():
        return out
    corner = np.nan_to_num(teeth.channel.values)[teeth.faces].astype(np.int16)
    # A face belongs to the tooth of two of its corners.
    most = np.where((corner[:, 0] == corner[:, 1]) | (corner[:, 0] == corner[:, 2]), corner[:, 0], corner[:, 1])
    most = np.where((most[:, None] == corner).sum(1) >= 2, most, numbers_of_faces(teeth))
    known = np.zeros(max(int(teeth.source.max()), int(body.source.max())) + 1, np.int16)
    known[teeth.source[teeth.source >= 0]] = np.maximum(most, 0)[teeth.source >= 0]
    out[body.source >= 0] = known[body.source[body.source >= 0]]
    return out


def _parts(jaw: str | None, teeth: tuple[int, ...], settings: DiesSettings) -> Iterable[str]:
    return [part_name(fdi, entry) for fdi, entry in asked(teeth, jaw, settings).items()]


STEP = Step(
    name="dies",
    title="Dies",
    number=8,
    version=10,
    over=JAWS,
    part_of="articulate",
    settings=DiesSettings,
    needs={
        "body": Need("base", "body"),
        "walls": Need("base", "walls", optional=True),
        "foot": Need("foot", "foot"),
        "teeth": Need("teeth", "mesh", optional=True),
        "chart": Need("case", "teeth"),
        "number": Need("case", "number"),
        "resin": Need("shelf", "plate.resin"),
    },
    gives={"solids": SOLIDS, "reserves": RESERVES, "dies": json_of(list[Die])},
    apply=apply,
    about="Teeth that come out, and their sockets.",
    off=lambda settings: settings.dies == "none",
    parts=_parts,
    begins="assemble",
)
