"""Part of Base: what the jaws stand on. How high, parallel to what, on which outline; as a pair where they are one."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...engine.gives import ByPiece, by_piece, json_of
from ...engine.model import WHOLE, Fix, Flag, Inputs, Need, Reading, Step, StepResult, StepSettings
from ...mesh import Mesh, border_loops, used_vertices
from ...ops.clip import frame_of
from ...ops.land import flat, sides_deg, squared
from ...ops.rigid import angle_deg, rounded, unit
from ...ops.upright import LEAST_MM
from ...progress import Run
from ..gap_cut import Cut, cut_both
from ..values import Foot, Plates

# Sides of a land stand so much farther off than asked: the walls of the arch stand within them.
_WITHIN_MM = 2.5
# A back that is made flush lies so far behind the rearmost of the scans.
_BEHIND_MM = 2.0
# Teeth that lie nearer to one line than this make no plane.
_LEAST_MM = 4.0
_SAME_MM = 0.05
# Between the plates of an articulator, where none is said (common practice, no source).
_GAP_MM = 40.0


class FootSettings(StepSettings):
    pass


@dataclass(frozen=True)
class _Jaw:
    """points : (n, 3) of the surface on the bench, without what the back saw takes off; ask : Base's settings; closed : it came with a
    base of its own"""

    piece: str
    jaw: str
    points: NDArray[np.float64]
    bench: NDArray[np.float64]
    stand: Mapping[str, Any]
    ask: Mapping[str, Any]
    closed: bool

    @property
    def sign(self) -> float:
        """Of heights: towards the teeth is up on a lower."""
        return 1.0 if self.jaw == "lower" else -1.0

    @property
    def lowest(self) -> float:
        """mm along up, from the occlusal plane."""
        return float((self.sign * self.points[:, 2]).min())

    @property
    def highest(self) -> float:
        return float((self.sign * self.points[:, 2]).max())


_ASKED = (
    "shape",
    "height",
    "thickness_mm",
    "total_mm",
    "gap_mm",
    "parallel",
    "flush",
    "around_mm",
    "outside_mm",
    "draft_deg",
    "edge",
    "edge_mm",
)


def apply(inputs: Inputs, settings: FootSettings, run: Run) -> StepResult:
    jaws = [_jaw(inputs, piece, jaw) for piece, jaw in inputs.jaws.items() if inputs.of("open", piece) is not None]
    bitten = all(inputs["home_to_bite"].get(j.piece) is not None and "alone" not in j.stand for j in jaws)
    pair = bitten and {j.jaw for j in jaws} == {"upper", "lower"}
    flags: list[Flag] = []
    readings: list[Reading] = []
    foot = ByPiece()
    floors = _floors(jaws, pair, flags)
    back = max(float(j.points[:, 1].max()) for j in jaws) + _BEHIND_MM if jaws else 0.0
    for each in jaws:
        others = jaws if pair and each.ask["flush"] and each.ask["parallel"] == "occlusal" else [each]
        foot[each.piece] = _foot(each, others, floors[each.piece], back, inputs, flags, readings)
    plates = _plates(jaws, foot, flags, inputs) if pair else None
    if pair and jaws[0].ask["flush"]:
        flags += _leaning(jaws[0].ask)
    if plates:
        readings.append(Reading("outer faces apart, closed", plates["upper_mm"] - plates["lower_mm"], "mm"))
    return StepResult({"foot": foot, "plates": plates}, tuple(readings), tuple(flags))


def _jaw(inputs: Inputs, piece: str, jaw: str) -> _Jaw:
    mesh: Mesh = inputs.of("open", piece)
    home = mesh.vertices_mm[used_vertices(mesh)]
    back = inputs.of("saws", piece)["back"]
    if back["on"]:
        home = home[(home - np.array(back["point"])) @ np.array(back["keep"]) > -1e-6]
    bench = np.array(inputs["home_to_bench"][piece])
    ask = {name: inputs.of(name, piece) for name in _ASKED}
    return _Jaw(piece, jaw, home @ bench[:3, :3].T + bench[:3, 3], bench, inputs["stand"][piece], ask, not border_loops(mesh))


def _floors(jaws: list[_Jaw], pair: bool, flags: list[Flag]) -> dict[str, float | None]:
    """Of each, where its underside shall lie, along up from the occlusal plane; None: as far under the border as asked."""
    out: dict[str, float | None] = {}
    between = sum(-j.lowest for j in jaws)
    for each in jaws:
        out[each.piece] = None
        if each.ask["height"] == "total":
            out[each.piece] = asked = each.highest - each.ask["total_mm"]
            if each.lowest - asked < LEAST_MM - 1e-6 and not each.closed:
                out[each.piece] = each.lowest - LEAST_MM
                flags.append(_too_low(each, each.lowest - asked))
        if each.ask["height"] == "gap":
            if not pair:
                text = "A gap is between two: while the pair has no bite, the bases go by what is under their lowest points."
                flags.append(Flag("gap-alone", "look", text, unmet=True))
                return {j.piece: None for j in jaws}
            more = ((each.ask["gap_mm"] or _GAP_MM) - between) / 2
            # Nothing can be put under a base that came with the scan.
            out[each.piece] = each.lowest - (min(more, 0.0) if each.closed else max(more, LEAST_MM))
    return out


def _too_low(each: _Jaw, under: float) -> Flag:
    least = float(np.ceil((each.highest - each.lowest + LEAST_MM) * 10) / 10)
    does = f"leaves {under:.1f} mm under" if under >= 0.05 else "does not reach below"
    text = (
        f"A total height of {each.ask['total_mm']:.1f} mm {does} the {each.jaw}'s lowest point: it is made {least:.1f} mm tall, so that "
        f"{LEAST_MM:.0f} mm is left. Fix sets that."
    )
    return Flag("too-low", "look", text, fix=Fix("base", each.piece, {"total_mm": least}), unmet=True)


def _foot(
    each: _Jaw, others: list[_Jaw], floor: float | None, back: float, inputs: Inputs, flags: list[Flag], readings: list[Reading]
) -> dict[str, Any]:
    ask, stand = each.ask, each.stand
    up = np.array(stand["up"])
    if ask["parallel"] == "own":
        own = _own_plane(inputs["teeth"].get(each.piece) or [], up)
        if own is None:
            text = f"Too few teeth of the {each.jaw} are told for a plane of its own: its base is parallel to the occlusal plane."
            flags.append(Flag("no-own-plane", "look", text, unmet=True))
        else:
            turned = float(np.degrees(np.arccos(np.clip(own @ up, -1, 1))))
            flags.append(
                Flag("own-plane", "note", f"The {each.jaw}'s base is parallel to its own teeth, {turned:.1f}° off the occlusal plane.")
            )
            up, floor = own, None
            if ask["height"] != "under":
                flags.append(_not_its_own(each))
    front = np.array(stand["front"])
    front = unit(front - up * (front @ up))
    land = _land(each, others, up, front, back, readings)
    flush = bool(ask["flush"])
    alone = {"alone": True} if "alone" in stand else {}
    return alone | {
        "origin": stand["origin"], "up": rounded(up), "front": rounded(front),
        "floor_mm": None if floor is None else round(floor, 6), "land": None if land is None else rounded(land),
        "back_mm": round(back, 6) if flush and land is None else None, "back_cut": flush or land is not None,
    }  # fmt: skip


def _not_its_own(each: _Jaw) -> Flag:
    what = "A mounting gap" if each.ask["height"] == "gap" else "A total height"
    text = (
        f"{what} counts along the occlusal plane, and the {each.jaw}'s base goes by its own teeth: it is {each.ask['thickness_mm']:.1f} mm "
        "thick under the lowest point instead."
    )
    return Flag(
        "own-height", "look", text, fix=Fix("base", each.piece, {"parallel": "occlusal"}, label="By the occlusal plane"), unmet=True
    )


def _leaning(ask: Mapping[str, Any]) -> list[Flag]:
    """Why a closed pair that was made flush does not stand on its back."""
    if ask["parallel"] == "own":
        text = "Each base goes by its own teeth, and so does its back: closed, the two backs are not in one plane."
        return [Flag("own-backs", "look", text, fix=Fix("base", "*", {"parallel": "occlusal"}, label="By the occlusal plane"))]
    if ask["draft_deg"] > 0:
        text = f"The walls lean by {ask['draft_deg']:.1f}°: closed, the pair stands on the edges of its backs, not on their faces."
        return [Flag("leaning-backs", "note", text, fix=Fix("base", "*", {"draft_deg": 0.0}, label="Upright walls"))]
    return []


def _own_plane(teeth: list[dict], up: NDArray) -> NDArray[np.float64] | None:
    tips = np.array([tip for tooth in teeth for tip in tooth["tips_mm"]], float).reshape(-1, 3)
    if len(tips) < 4:
        return None
    off = tips - tips.mean(0)
    _, size, axes = np.linalg.svd(off, full_matrices=False)
    if size[1] / np.sqrt(len(tips)) < _LEAST_MM:
        return None
    normal = axes[2] * np.sign(axes[2] @ up)
    return normal if angle_deg(_between(normal, up)) < 25 else None


def _between(a: NDArray, b: NDArray) -> NDArray[np.float64]:
    x, y = frame_of(a, frame_of(b)[0]), frame_of(b, frame_of(b)[0])
    return x.T @ y


def _land(each: _Jaw, others: list[_Jaw], up: NDArray, front: NDArray, back: float, readings: list[Reading]) -> NDArray | None:
    """(k, 2) in the plan of the jaw."""
    ask = each.ask
    if ask["shape"] not in ("squared", "flat"):
        return None
    own = (_home(each) - np.array(each.stand["origin"])) @ frame_of(up, front).T
    # On the bench x of both is the patient's left; the halves of a land are alike, so which of the two is no matter.
    shared = own[:, :2] if others == [each] else np.vstack([j.points[:, :2] for j in others])
    around = ask["around_mm"] + _WITHIN_MM + ask["outside_mm"] + (each.highest - each.lowest) * float(np.tan(np.radians(ask["draft_deg"])))
    edge = ask["edge_mm"] if ask["edge"] != "sharp" else 0.0
    behind = back if ask["flush"] else float(own[:, 1].max()) + _BEHIND_MM
    behind += edge + _WITHIN_MM
    if ask["shape"] == "flat":
        return flat(shared, around_mm=around + edge, back_mm=behind)
    angles = each.jaw if others == [each] else "upper"
    if each is others[0]:
        whose = f", {each.jaw}" if others == [each] else ""
        readings.append(Reading(f"sides to the back{whose}", sides_deg(shared, angles), "°"))
    corner = edge if ask["edge"] == "rounded" else 0.0
    return squared(own[:, :2], shared, jaw=each.jaw, angles=angles, around_mm=around + edge, back_mm=behind, corner_mm=corner)


def _home(each: _Jaw) -> NDArray[np.float64]:
    return (each.points - each.bench[:3, 3]) @ each.bench[:3, :3]


def _plates(jaws: list[_Jaw], foot: ByPiece, flags: list[Flag], inputs: Inputs) -> dict[str, float] | None:
    """Where the two plates stand: in the middle of what the pair is high."""
    lower, upper = (next(j for j in jaws if j.jaw == name) for name in ("lower", "upper"))
    gap = lower.ask["gap_mm"] or (_GAP_MM if lower.ask["height"] == "gap" else 0.0)
    if not gap:
        return None
    if any(j.ask["parallel"] == "own" for j in jaws):
        return None
    faces = {j.jaw: j.sign * _floor(j, foot) for j in jaws}
    tall = faces["upper"] - faces["lower"]
    middle = (faces["upper"] + faces["lower"]) / 2
    past = (tall - gap) / 2
    values = {"gap_mm": gap, "lower_mm": middle - gap / 2, "upper_mm": middle + gap / 2, "lower_past_mm": past, "upper_past_mm": past}
    flags.append(_gap_said(lower, upper, tall, gap, inputs))
    return {k: round(float(v), 6) for k, v in values.items()}


def _floor(each: _Jaw, foot: ByPiece) -> float:
    floor = foot[each.piece]["floor_mm"]
    return each.lowest - (0.0 if each.closed else each.ask["thickness_mm"]) if floor is None else floor


def _gap_said(lower: _Jaw, upper: _Jaw, tall: float, gap: float, inputs: Inputs) -> Flag:
    if abs(tall - gap) < _SAME_MM:
        return Flag("gap", "note", f"Closed, the pair fits between plates {gap:.1f} mm apart.")
    least = -lower.lowest - upper.lowest + 2 * LEAST_MM
    can = least <= gap + 1e-6
    fills = Fix("base", "*", {"height": "gap", "gap_mm": gap}, label="Fit the bases")
    if tall < gap:
        text = f"Closed, the pair is {tall:.1f} mm high: {gap - tall:.1f} mm less than the gap of {gap:.1f} mm. Thicker bases fill it."
        return Flag("gap-short", "look", text, fix=fills, unmet=True)
    more = float(np.ceil(max(least, tall) * 2) / 2)
    raise_gap = Fix("base", "*", {"gap_mm": more}, label=f"Gap {more:.1f} mm")
    text = f"Closed, the pair is {tall:.1f} mm high and sticks out by {(tall - gap) / 2:.1f} mm past each plate of a gap of {gap:.1f} mm."
    if can:
        return Flag("gap-past", "look", f"{text} Thinner bases do, or plates farther apart.", fix=fills, other=raise_gap, unmet=True)
    said, cut = cut_both([_cut(lower, inputs), _cut(upper, inputs)], least - gap, gap)
    thinnest = f" With {LEAST_MM:.0f} mm under each lowest point it is {least:.1f} mm." if tall - least > _SAME_MM else ""
    text += f"{thinnest} {said}"
    return Flag("gap-past", "look", text, fix=cut or raise_gap, other=raise_gap if cut else None, unmet=True)


def _cut(each: _Jaw, inputs: Inputs) -> Cut:
    """On the bench, heights towards the teeth."""
    home: Mesh = inputs.of("open", each.piece)
    mesh = home.with_vertices(home.vertices_mm @ each.bench[:3, :3].T + each.bench[:3, 3])
    up = np.array([0.0, 0.0, each.sign])
    return Cut(each.piece, each.jaw, mesh.vertices_mm @ up, mesh, up, each.lowest, _lowest_margin(each, inputs), each.closed)


def _lowest_margin(each: _Jaw, inputs: Inputs) -> float | None:
    told = inputs["margins"].get(each.piece)
    teeth = json.loads(told[0].data) if told else []
    points = np.array([p for tooth in teeth for p in tooth["margin_mm"]], float).reshape(-1, 3)
    if len(points) == 0:
        return None
    return float((each.sign * (points @ each.bench[:3, :3].T + each.bench[:3, 3])[:, 2]).min())


def _asked() -> dict[str, Need]:
    return {name: Need("base", name, setting=True, each=True) for name in _ASKED}


STEP = Step(
    name="foot",
    title="Footing",
    number=5,
    version=8,
    over=WHOLE,
    part_of="base",
    settings=FootSettings,
    needs={
        "open": Need("trim", "open", each=True, optional=True),
        "saws": Need("trim", "saws", each=True, optional=True),
        "stand": Need("level", "stand", each=True),
        "home_to_bench": Need("level", "home_to_bench", each=True),
        "home_to_bite": Need("bite", "home_to_bite", each=True, optional=True),
        "teeth": Need("teeth", "teeth", each=True, optional=True),
        "margins": Need("teeth", "margins", each=True, optional=True),
        **_asked(),
    },
    gives={"foot": by_piece(json_of(Foot)), "plates": json_of(Plates | None)},
    apply=apply,
    about="What the models stand on.",
)
