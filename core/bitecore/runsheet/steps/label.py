"""Label: text, a code of the case's number and the house's mark in the wall of a body, or underneath."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator
from scipy.spatial import cKDTree

from ...engine.entries import Entry, EntryId
from ...engine.gives import MESH, RESERVES, SOLIDS, Solid, Solids, json_of
from ...engine.model import BODIES, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings, setting
from ...mesh import GROUP_SCAN, Mesh
from ...ops.flat_places import flat_places, ways_to_see
from ...ops.fonts import Font
from ...ops.free_wall import Free, free_wall
from ...ops.rigid import rounded
from ...ops.segments import Segment
from ...ops.writing import Spot, Surface, on_wall, underneath
from ...ops.written import Written
from ...progress import Run
from ..framed import Frame, standing_on
from ..label_room import easier
from ..label_says import BEHIND_MM, THERE_MM, Asked, Stands, behind, says, where
from ..labels import Kind, Look, Said, check_pattern, code_label, filled, mark_label, text_label
from ..values import Labelled, WallPath

_Mm = Annotated[float, Field(ge=-1e5, le=1e5)]
Pattern = Annotated[str, Field(max_length=80)]
Side = Literal["auto", "back", "right", "left", "front", "under"]
# Labels begin so far outside of the wall, or go so far into it, that they never end on it.
_BEYOND_MM = 0.3
# From a strut or a notch to the letters, along the wall.
_STRUT_OFF_MM = 0.6
# So near to the underside a place lies on it.
_FLAT_MM = 0.6
# On the gum a label stays so far off every tooth; what leans up by more than this cosine is read from behind (judgement).
_GUM_OFF_MM, _LEVEL = 2.5, 0.75
# How little the sides are liked: the back first (common practice, no source).
_LIKED = {"back": 0.0, "left": 0.4, "right": 0.4, "front": 1.2}


class SetLabel(Entry):
    """A label put where a person wants it, or one more.

    name     : of the one that is moved (text, code or mark); empty: one more
    pattern  : of one more that is text
    at       : where its middle shall be, in the scan's own coordinates (mm); None: it finds its place
    turn_deg : counter-clockwise as it is read
    tall_mm  : capitals, or the whole of a code or a mark; None: as tall as there is room for
    """

    name: Literal["", "text", "code", "mark"] = ""
    kind: Kind = "text"
    pattern: Pattern = ""
    at: tuple[_Mm, _Mm, _Mm] | None = None
    turn_deg: Annotated[float, Field(ge=-180, le=180)] = 0.0
    tall_mm: Annotated[float, Field(ge=1, le=30)] | None = None

    @field_validator("pattern")
    @classmethod
    def _known(cls, pattern: str) -> str:
        return check_pattern(pattern)


_ON = {"style": ("engraved", "raised")}


class LabelSettings(StepSettings):
    style: Literal["none", "engraved", "raised"] = setting("none", label="Label", help="Cut in, or standing out.")
    pattern: str = setting(
        "{number} {jaw}", min_length=1, max_length=80, label="Text",
        help="From {number}, {patient}, {date}, {practice}, {jaw}, {teeth}, {text} and what you write.", when=_ON,
    )  # fmt: skip
    second: Pattern = setting("", label="Second line", help="Under the first, of the same words. Empty: none.", when=_ON)
    lower: Pattern = setting("", label="Text of the lower", help="Where it says something else. Empty: the same.", main=False, when=_ON)
    free: str = setting("", max_length=60, label="Free text", help="What {text} stands for in this case.", when=_ON)
    font: Font = setting(
        "narrow", label="Letters", help="All have Latin letters with accents, Greek and Cyrillic.", when=_ON,
        words={"line": "single line"},
    )  # fmt: skip
    pen_mm: float = setting(0.4, ge=0.2, le=1.5, unit="mm", label="Pen", help="How wide single lines are.", when={**_ON, "font": ("line",)})
    depth_mm: float = setting(0.5, ge=0.2, le=1.5, unit="mm", label="Depth", help="How deep it is cut, or how far it stands out.", when=_ON)
    tall_mm: float | None = setting(
        None, ge=1.5, le=10, unit="mm", label="Capitals, tall", help="Empty: as tall as there is room for.", main=False, when=_ON
    )
    apart: float = setting(
        6.0, ge=-10, le=60, unit="%", label="Between letters", help="Room besides the font's own, of the height of capitals.", main=False,
        when=_ON,
    )  # fmt: skip
    side: Side = setting(
        "auto", label="Side", help="Where the labels stand that were put nowhere by hand.", main=False, when=_ON,
        words={"auto": "the best place", "right": "the patient's right", "left": "the patient's left", "under": "underneath"},
    )  # fmt: skip
    reads: Literal["base", "closed"] = setting(
        "base", label="Upper reads", help="Upright as it stands on its own base, or with the pair closed.", main=False, when=_ON,
        words={"base": "on its base", "closed": "in the closed pair"},
    )  # fmt: skip
    least_mm: float = setting(
        1.6, ge=1.0, le=5.0, unit="mm", label="Capitals, at least", main=False, when=_ON,
        help="Where there is no room otherwise, letters get smaller down to this.",
    )  # fmt: skip
    on_gum: bool = setting(
        False, label="On flat gum", main=False, when=_ON, help="Where there is no room otherwise, on flat gum away from the teeth."
    )
    code: bool = setting(False, label="QR code", help="Of the case's number.", main=False, when=_ON)
    mark: str = setting(
        "none", label="House mark", help="One of the marks on the house's shelf.", shelf="mark", main=False, max_length=60, when=_ON
    )
    labels: dict[EntryId, SetLabel] = setting(
        {}, label="Labels by hand", help="Labels put elsewhere, turned or added.", form=False, max_length=12
    )

    @field_validator("pattern", "second", "lower")
    @classmethod
    def _known(cls, pattern: str) -> str:
        return check_pattern(pattern)


def apply(inputs: Inputs, settings: LabelSettings, run: Run) -> StepResult:
    frame = standing_on(inputs["stand"])
    local = frame.mesh(inputs["body"])
    asked = list(_asked(inputs, settings, frame))
    run.tick(0.2, "looking for room")
    room = _Room(inputs, settings, frame, local)
    stands, flags = list[Stands](), list[Flag]()
    if not asked:
        flags.append(Flag("no-label", "look", "There is nothing to write: the case has no text for this pattern.", unmet=True))
    # Who was put somewhere comes first.
    for each in sorted(asked, key=lambda a: a.at is None):
        found, how = _placed(each, room, inputs, settings)
        cure = None if found or settings.on_gum else _on_gum(each, room, inputs, settings)
        flags += says(found, each, room.wall, inputs, settings, frame, how=how, cure=cure)
        if found:
            flags += behind(found, local, inputs, settings, frame)
            stands.append(found)
    run.tick(0.7, "making letters")
    return _result(stands, settings, frame, flags, _path(room.surfaces.get("wall"), frame))


def _placed(asked: Asked, room: _Room, inputs: Inputs, settings: LabelSettings) -> tuple[Stands | None, str]:
    """(where it stands, what it did to find room): as asked, else on two lines, else smaller, else on the gum where that is allowed."""
    if found := room.place(asked):
        return found, ""
    others = list(_easier(asked, inputs, settings))
    for other, how in others:
        if found := room.place(other):
            return found, how
    for other, how in [(asked, ""), *others] if settings.on_gum else ():
        if found := room.on_gum(other):
            return found, ", ".join(w for w in ("on the gum", how) if w)
    return None, ""


def _easier(asked: Asked, inputs: Inputs, settings: LabelSettings) -> Iterator[tuple[Asked, str]]:
    words, look = _words(inputs, settings), _look(settings)
    typed = asked.said.sizes[0][0] if len(asked.said.sizes[0]) == 1 else None

    def again(lines: tuple[str, ...]) -> Said | None:
        return text_label(asked.said.name, lines, words, look, typed)

    return easier(asked, again, lambda pattern: len(filled(pattern, words)), settings.least_mm)


def _on_gum(asked: Asked, room: _Room, inputs: Inputs, settings: LabelSettings) -> Fix | None:
    """The Fix that allows it there, where that gives it room."""
    others = [(asked, ""), *_easier(asked, inputs, settings)]
    if any(room.fits(other, on_gum=True) for other, _ in others):
        return Fix("label", "*", {"on_gum": True}, label="On flat gum")
    return None


def _path(surface: Surface | None, frame: Frame) -> Mapping[str, Any] | None:
    """What a label is pulled along."""
    if surface is None:
        return None
    columns = np.flatnonzero(surface.free.any(1))[::2]
    at = np.c_[surface.middles()[0][columns], np.zeros(len(columns))]
    foot, beyond = surface.laid(at, np.zeros(len(at))), surface.laid(at, np.ones(len(at)))
    up = frame.way_home(np.array([0.0, 0.0, 1.0]))
    return {"foot": np.round(frame.home(foot), 3).tolist(), "out": np.round(frame.way_home(beyond - foot), 4).tolist(), "up": rounded(up)}


def _asked(inputs: Inputs, settings: LabelSettings, frame: Frame) -> Iterator[Asked]:
    words = _words(inputs, settings)
    look = _look(settings)
    first = settings.lower if settings.lower and inputs.jaw == "lower" else settings.pattern
    moved: dict[str, tuple[str, SetLabel]] = {e.name: (key, e) for key, e in settings.labels.items() if e.name}
    plain: tuple[str, SetLabel] = ("", SetLabel())

    def entry(name: str) -> SetLabel:
        return moved.get(name, plain)[1]

    made = [
        (text_label("text", (first, settings.second), words, look, entry("text").tall_mm or settings.tall_mm), *moved.get("text", plain)),
        (code_label("code", words["number"], entry("code").tall_mm) if settings.code else None, *moved.get("code", plain)),
        (mark_label("mark", inputs["mark"], entry("mark").tall_mm), *moved.get("mark", plain)),
    ]
    patterns = {"text": tuple(line for line in (first, settings.second) if line)}
    for key, e in settings.labels.items():
        if e.name:
            continue
        if e.kind == "code":
            made.append((code_label(key, words["number"], e.tall_mm), key, e))
        elif e.kind == "mark":
            made.append((mark_label(key, inputs["mark"], e.tall_mm), key, e))
        else:
            made.append((text_label(key, (e.pattern,), words, look, e.tall_mm), key, e))
            patterns[key] = (e.pattern,)
    over = np.pi if settings.reads == "closed" and inputs.jaw == "upper" else 0.0
    for said, key, e in made:
        if said is not None:
            yield Asked(
                said, key, None if e.at is None else frame.of(e.at), float(np.radians(e.turn_deg)) + over, patterns.get(said.name, ())
            )


def _look(settings: LabelSettings) -> Look:
    return Look(settings.font, settings.apart / 100, settings.pen_mm)


def _words(inputs: Inputs, settings: LabelSettings) -> dict[str, str]:
    words = {k: str(inputs[k] or "") for k in ("number", "practice", "date", "patient")}
    return words | {"jaw": inputs.jaw or "", "teeth": _teeth(inputs), "text": settings.free}


def _teeth(inputs: Inputs) -> str:
    """Those the case is for in this jaw, in FDI numbers (ISO 3950): of an upper they begin with 1, 2, 5 or 6."""
    upper = inputs.jaw == "upper"
    return " ".join(t for t in str(inputs["teeth"] or "").split() if (t[0] in "1256") == upper)


class _Room:
    """The surfaces of a body, each label taking its place."""

    def __init__(self, inputs: Inputs, settings: LabelSettings, frame: Frame, local: Mesh) -> None:
        self.settings = settings
        front = np.array([0.0, -1.0])
        self.wall = _wall(inputs, frame, local)
        self.surfaces: dict[str, Surface] = {}
        # Looking at the tips with the front ahead, the patient's left is on the left of an upper, on the right of a lower.
        left = -1 if inputs.jaw == "upper" else 1
        if self.wall is not None:
            self.surfaces["wall"] = on_wall(self.wall, sides=front, likes=_LIKED.get, left=left)
            # Behind a post nobody reads: there only where nowhere else is room.
            seen = self.wall.clear_of(_struts(inputs, frame), _widest(inputs, "post_mm") / 2 + _STRUT_OFF_MM)
            self.surfaces["seen"] = on_wall(seen, sides=front, likes=_LIKED.get, left=left)
        # A face that lies on a block bears nothing but that.
        if inputs["inside"] != "open" and inputs["held"] != "plates" and (under := _under(local, front, settings)) is not None:
            self.surfaces["under"] = under
        self._left, self._floor = left, float(local.vertices_mm[:, 2].min())
        self._inputs, self._frame, self._local = inputs, frame, local

    def place(self, asked: Asked) -> Stands | None:
        if asked.at is not None:
            # Underneath is meant only where the place lies on the underside.
            order = ["under", "wall"] if asked.at[2] - self._floor < _FLAT_MM else ["wall", "under"]
            return self._on(asked, order)
        side = self.settings.side
        if side not in ("auto", "under") and "wall" in self.surfaces and (found := self._on(asked, ["wall"], only=side)):
            return found
        order = (
            ["under", "seen", "wall"] if side == "under" or (side == "auto" and asked.said.kind == "code") else ["seen", "wall", "under"]
        )
        found = self._on(asked, order)
        return replace(found, off=np.inf) if found and side not in ("auto", "under") else found

    def on_gum(self, asked: Asked) -> Stands | None:
        """On a flat part of the scan away from its teeth."""
        if not any(name.startswith("gum") for name in self.surfaces):
            self.surfaces |= {f"gum {k}": s for k, s in enumerate(_gum(self._inputs, self._frame, self._local), 1)}
        return self._on(asked, sorted(name for name in self.surfaces if name.startswith("gum")))

    def fits(self, asked: Asked, *, on_gum: bool = False) -> bool:
        """Whether it has room, without its taking it."""
        kept = dict(self.surfaces)
        found = self.on_gum(asked) if on_gum else self.place(asked)
        self.surfaces = {name: s for name, s in self.surfaces.items() if name.startswith("gum") and name not in kept} | kept
        return found is not None

    def _on(self, asked: Asked, names: Iterable[str], only: str = "") -> Stands | None:
        for name in names:
            if name not in self.surfaces:
                continue
            surface = self.surfaces[name]
            if only:
                assert self.wall is not None
                side = on_wall(self.wall, sides=np.array([0.0, -1.0]), likes=lambda s: 0.0 if s == only else None, left=self._left)
                surface = replace(surface, free=surface.free & side.free, cost=side.cost)
            best: tuple[Written, Spot, float] | None = None
            for tall in asked.said.sizes[name == "under"]:
                written = asked.said.drawn(tall, False)
                there = surface.place(written, asked.turn, None if asked.at is None else surface.flat(asked.at))
                if there and (best is None or there[1] < best[2] - THERE_MM):
                    best = (written, *there)
                if best and best[2] <= THERE_MM:
                    break
            if best:
                written, spot, off = best
                for other in ("seen", "wall") if name in ("seen", "wall") else (name,):
                    self.surfaces[other] = self.surfaces[other].without(written, spot)
                # What stands out underneath would lift the model.
                cut = self.settings.style == "engraved" or name == "under"
                return Stands(asked, written, surface, spot, "cut" if cut else "add", off)
        return None


def _gum(inputs: Inputs, frame: Frame, local: Mesh) -> list[Surface]:
    """Flat gum, so far from every tooth that a label takes nothing of one; the largest patch first. None where no teeth are told."""
    told: Mesh | None = inputs["teeth_told"]
    if told is None or told.channel is None:
        return []
    teeth = told.vertices_mm[np.nan_to_num(told.channel.values) > 0]
    if len(teeth) == 0:
        return []
    near = cKDTree(frame.of(teeth)).query(local.vertices_mm, distance_upper_bound=_GUM_OFF_MM)[0]
    faces = (local.groups == GROUP_SCAN) & ~np.isfinite(near)[local.faces].any(1)
    out = []
    for way in ways_to_see(local, faces):
        # Upright where it can be; on what looks up, read from behind with the teeth ahead.
        up = np.array([0.0, 0.0, 1.0]) if abs(way[2]) < _LEVEL else np.array([0.0, -1.0, 0.0])
        if (surface := flat_places(local, faces, way, up, "gum")) is not None:
            out.append(surface)
    return out


def _under(local: Mesh, front: np.ndarray, settings: LabelSettings) -> Surface | None:
    return underneath(local, front, thick_mm=settings.depth_mm + BEHIND_MM)


def _struts(inputs: Inputs, frame: Frame) -> list[Segment]:
    return [(frame.of(s["from_mm"]), frame.of(s["to_mm"])) for s in inputs["struts"] or ()]


def _wall(inputs: Inputs, frame: Frame, local: Mesh) -> Free | None:
    wall = free_wall(local, edge_mm=inputs["walls"]["edge_mm"] if inputs["walls"] else 0.0)
    if wall is None:
        return None
    wall = wall.clear_of(_struts(inputs, frame), _widest(inputs, "wide_mm") / 2 + _STRUT_OFF_MM)
    if inputs["notch"]:
        a, b = (frame.of(p) for p in inputs["notch"]["line"])
        wall = wall.clear_of([(a, b)], _STRUT_OFF_MM)
    return wall


def _widest(inputs: Inputs, name: str) -> float:
    """Of the struts."""
    return max((strut[name] for strut in inputs["struts"] or ()), default=0.0)


def _result(stands: list[Stands], settings: LabelSettings, frame: Frame, flags: list[Flag], path: Any) -> StepResult:
    solids, dots, reserves, labels = Solids(), dict[str, list[Mesh]](cut=[], add=[]), [], []
    veiled = any(s.asked.said.veiled for s in stands)
    for each in stands:
        solid = _solid(each, settings, frame, hidden=False)
        solids.append(solid)
        if veiled:
            dots[each.op].append(_solid(each, settings, frame, hidden=True).mesh if each.asked.said.veiled else solid.mesh)
        if each.op == "cut":
            lines = each.surface.lines(each.written, each.spot, settings.depth_mm)
            reserves += [{"name": "label", "from_mm": a.tolist(), "to_mm": b.tolist(), "radius_mm": 0.01} for a, b in frame.home(lines)]
        labels.append(_labelled(each, frame))
    values: dict[str, Any] = {"solids": solids, "reserves": reserves, "labels": labels} | ({"wall": path} if path else {})
    if solids:
        values["letters"] = _joined([s.mesh for s in solids])
    values |= {f"dots_{op}": _joined(meshes) for op, meshes in dots.items() if meshes}
    texts = [s for s in stands if s.asked.said.kind == "text"]
    readings = [Reading("labels", len(stands))]
    if texts:
        first = texts[0].written
        readings += [
            Reading("capitals, tall", first.tall, "mm"), Reading("text, long", first.width, "mm"),
            Reading("thinnest stroke", min(s.written.stroke for s in stands), "mm"),
        ]  # fmt: skip
    return StepResult(values, tuple(readings), tuple(flags), stands[0].asked.said.shown[:60] if stands else "no room")


def _solid(each: Stands, settings: LabelSettings, frame: Frame, *, hidden: bool) -> Solid:
    inner, outer = (settings.depth_mm, _BEYOND_MM) if each.op == "cut" else (_BEYOND_MM, settings.depth_mm)
    written = each.asked.said.drawn(each.written.tall, True) if hidden else each.written
    mesh = each.surface.solid(written, each.spot, inner=inner, outer=outer)
    return Solid(each.op, frame.home_mesh(mesh), "the label" if each.asked.said.kind == "text" else f"the {each.asked.said.kind}")


def _joined(meshes: list[Mesh]) -> Mesh:
    """Solids that stand apart, as one."""
    first, *rest = meshes
    for other in rest:
        first = Mesh.of(
            np.concatenate([first.vertices_mm, other.vertices_mm]),
            np.concatenate([first.faces, other.faces + len(first.vertices_mm)]),
            np.concatenate([first.groups, other.groups]),
        )
    return first


def _labelled(each: Stands, frame: Frame) -> Mapping[str, Any]:
    middle, along, up = each.surface.axes(each.written, each.spot)
    said, written = each.asked.said, each.written
    return {
        "name": said.name, "kind": said.kind, "text": said.words, "veiled": said.shown, "where": where(each),
        "middle": rounded(frame.home(middle)), "along": rounded(frame.way_home(along)), "up": rounded(frame.way_home(up)),
        "lines": [np.round(frame.home(row), 3).tolist() for row in each.surface.rows(written, each.spot)],
        "turn_deg": round(float(np.degrees(each.spot.turn)), 3), "tall_mm": round(written.tall, 3), "width_mm": round(written.width, 3),
        "height_mm": round(written.height, 3), "stroke_mm": round(written.stroke, 3),
    }  # fmt: skip


def _from_4(saved: dict) -> dict:
    """The one place a label could have is an entry now."""
    out = {k: v for k, v in saved.items() if k != "at"}
    return out | ({"labels": {"l1": {"name": "text", "at": saved["at"]}}} if saved.get("at") else {})


STEP = Step(
    name="label",
    title="Label",
    number=7,
    version=12,
    over=BODIES,
    settings=LabelSettings,
    needs={
        "body": Need("base", "body"),
        "stand": Need("foot", "foot"),
        "walls": Need("base", "walls", optional=True),
        "inside": Need("hollow", "style", setting=True),
        "struts": Need("articulate", "struts", optional=True),
        "held": Need("articulate", "style", setting=True),
        "height": Need("base", "height", setting=True),
        "teeth_told": Need("teeth", "mesh", optional=True),
        "notch": Need("notch", "notch", optional=True),
        "mark": Need("shelf", "mark"),
        "printer": Need("shelf", "plate.printer"),
        "number": Need("case", "number"),
        "patient": Need("case", "patient"),
        "practice": Need("case", "practice"),
        "teeth": Need("case", "teeth"),
        "date": Need("case", "opened"),
    },
    gives={
        "solids": SOLIDS, "reserves": RESERVES, "labels": json_of(list[Labelled]), "wall": json_of(WallPath), "letters": MESH,
        "dots_cut": MESH, "dots_add": MESH,
    },
    nameless=("wall", "reserves", "dots_cut", "dots_add"),
    apply=apply,
    about="Text, a code, a mark on every body.",
    shows=("letters",),
    off=lambda settings: settings.style == "none",
    upgrades={4: _from_4},
)  # fmt: skip
