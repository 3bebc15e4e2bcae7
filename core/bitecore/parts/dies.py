"""Dies and the model they come out of. Of the body of a jaw a die takes what stands within its plan (see die_plan), gum outside of its
tooth goes down, and a shaft (see die_shaft) is joined to it; the model loses the plan with a little room, and a socket. Neighbours can
come out as well, without the gum going down.

What the tooth's surface is made of is the body's own, corner for corner: the head is cut out of the body exactly.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import manifold3d
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..mesh import Mesh, border_loops, face_components
from ..ops.assembly import assemble
from ..ops.clip import frame_of
from ..ops.closest import ClosestPoints
from ..ops.crossing import crossing_faces
from ..progress import QUIET, Run
from .die_number import letters
from .die_path import overlap, way_out
from .die_plan import ROUND, SIDES, DiePlan, DieSizes, Near, largest, near, planned, seen
from .die_reserves import in_ring, kept_off, window_line
from .die_shaft import (
    LEAST_LONG_MM,
    UNDER_MM,
    Shaft,
    give_way,
    hole_of,
    home_mesh,
    least_apart,
    lifted,
    ring_of,
    shaft_shape,
    tunnel,
    window_of,
)
from .die_vent import vent_of

# The gum goes down over so much; the head ends so far under the gum that went down.
_RAMP_MM, _LOW_MM = 0.5, 0.8
# Over its ridge's sides a shaft is straight for so much; slices of the body stand so far apart.
_STRAIGHT_MM, _SLICE_MM = 1.5, 1.0
_OVER_MM = 1.0
# Round its plan the gum goes down too: triangles reach over its wall.
_BESIDE_MM = 0.8
# Which part of a margin counts as its height, and how far round that is looked at.
_LOW_PERCENT, _ABOUT_RAD = 20, np.radians(30)
# Between the heads of two dies there is so much at least.
_BETWEEN_MM = 0.05
# So often the gum is let go where it folds, and so far around.
_FOLDS, _EASED_MM = 4, 0.6
# No shaft ends on less.
_LEAST_SEAT_MM2 = 1.0
# A window through more than this shows nothing.
_LONGEST_WINDOW_MM = 9.0


@dataclass(frozen=True)
class Wanted:
    """A tooth that comes out. ditched : it is a die, the gum goes down; way : by hand, (3,); moved : walls to other teeth, by hand (mm)"""

    fdi: int
    ditched: bool = True
    way: NDArray[np.float64] | None = None
    moved: Mapping[int, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Stands:
    """The body where dies are cut from it, at home.

    tooth : (m,) the number of every face, 0 gum; up, front : of its base; floor : (3,) a place on its flat underside
    tongue : by number, (3,) the way to the tongue's side
    """

    body: Mesh
    tooth: NDArray[np.int16]
    up: NDArray[np.float64]
    front: NDArray[np.float64]
    floor: NDArray[np.float64]
    tongue: Mapping[int, NDArray[np.float64]]


@dataclass(frozen=True)
class Die:
    """mesh, cut : the die, and what the model loses for it, at home; teeth : as they stand in the body; rotation : (3, 3) rows x, y and
    the way it comes out

    wall_mm : of the model round its socket, at its thinnest; overlap_mm : how deep other teeth lie over it along its way
    kept    : the share of its tooth's faces that are the body's bit for bit
    window  : (2, 3) from the shaft's axis to where it comes out, at home; None where it has none; numbered : it has a number
    lines   : (k, 2, 3) what a cavity keeps off, at home; wide : (k,) and how far from each line (mm)
    """

    wanted: Wanted
    teeth: Near
    mesh: Mesh
    cut: Mesh
    rotation: NDArray[np.float64]
    shaft: Shaft
    plan: DiePlan
    wall_mm: float
    overlap_mm: float
    kept: float
    window: NDArray[np.float64] | None
    numbered: bool
    lines: NDArray[np.float64]
    wide: NDArray[np.float64]

    @property
    def way(self) -> NDArray[np.float64]:
        return self.rotation[2]


@dataclass(frozen=True)
class NoDie:
    """Why there is none. low_mm : so much too low is the base for it; long_mm : shafts have to be let so long"""

    fdi: int
    why: str
    low_mm: float = 0.0
    long_mm: float = 0.0


@dataclass(frozen=True)
class Dies:
    """between : the wall between the sockets of two, by their numbers"""

    made: list[Die]
    without: list[NoDie]
    between: Mapping[tuple[int, int], float]


@dataclass
class _Begun:
    """A die whose shaft is not settled yet."""

    wanted: Wanted
    teeth: Near
    rotation: NDArray[np.float64]
    plan: DiePlan
    top: float
    foot: float
    slices: list[manifold3d.CrossSection]
    shape: manifold3d.CrossSection


def dies(stands: Stands, wanted: Sequence[Wanted], sizes: DieSizes, *, number: str = "", run: Run = QUIET) -> Dies:
    """number : of the case, under every die. Raises StepFailed where the body is no closed solid."""
    out = {each.fdi for each in wanted}
    found = {each.fdi: near(stands.body, stands.tooth, each.fdi) for each in wanted}
    without = [NoDie(fdi, "it is not on this scan") for fdi, teeth in found.items() if teeth is None]
    begun: list[_Begun] = []
    between: dict[tuple[int, int], float] = {}
    turned: dict[bytes, manifold3d.Manifold] = {}
    whole: manifold3d.Manifold | None = None
    groups = side_by_side([each for each in wanted if found[each.fdi] is not None])
    for number_of, group in enumerate(groups):
        run.tick(0.3 * number_of / len(groups), "looking for the way out")
        teeth = [found[each.fdi] for each in group]
        way = next((each.way for each in group if each.way is not None), None)
        rotation = frame_of(way if way is not None else way_out([t for t in teeth if t], stands.up), stands.front)
        whole = lifted(stands.body, np.eye(3)) if whole is None else whole
        solid = turned.setdefault(rotation.tobytes(), whole.transform(np.c_[rotation, np.zeros(3)]))
        ready = [_begun(stands, each, t, rotation, solid, sizes, out) for each, t in zip(group, teeth, strict=True) if t is not None]
        without += [each for each in ready if isinstance(each, NoDie)]
        settled, failed = _settled(_apart([each for each in ready if isinstance(each, _Begun)]), sizes)
        begun += settled
        without += failed
    if not begun:
        return Dies([], without, between)
    run.tick(0.4, "cutting out the heads")
    heads = _heads(stands, begun, sizes)
    made = []
    for k, (each, head) in enumerate(zip(begun, heads, strict=True)):
        run.tick(0.6 + 0.4 * k / len(begun), "joining the shafts")
        made.append(_made(stands, each, head, turned[each.rotation.tobytes()], sizes, number))
    between |= _between(made, sizes)
    return Dies(made, without, between)


def side_by_side(wanted: Sequence[Wanted]) -> list[list[Wanted]]:
    """In the order of the arch, those without another tooth between them together."""
    out: list[list[Wanted]] = []
    last = None
    for each in sorted(wanted, key=lambda w: _along(w.fdi)):
        if last is not None and _along(each.fdi) - last == 1:
            out[-1].append(each)
        else:
            out.append([each])
        last = _along(each.fdi)
    return out


def _along(fdi: int) -> int:
    """The place along the arch, from the patient's right to the left."""
    quadrant, place = divmod(fdi, 10)
    return -place if (quadrant - 1) % 4 in (0, 3) else place - 1


def _begun(
    stands: Stands, wanted: Wanted, teeth: Near, rotation: NDArray, solid: manifold3d.Manifold, sizes: DieSizes, out: set[int]
) -> _Begun | NoDie:
    plan = planned(seen(teeth, rotation), sizes, out=out, moved=wanted.moved)
    if plan is None:
        return NoDie(wanted.fdi, "between its neighbours nothing is left of it")
    ditch = sizes.ditch if wanted.ditched else 0.0
    top = float((teeth.own.vertices_mm @ rotation[2]).min()) - ditch - _LOW_MM
    foot = max(_floor(stands, rotation, ring_of(plan.shape)) + sizes.under, top - sizes.deep)
    if top - foot < LEAST_LONG_MM:
        return _too_short(wanted.fdi, Shaft.of(ring_of(plan.shape), top, foot, sizes))
    count = max(int(np.ceil((top - foot) / _SLICE_MM)), 2)
    slices = [solid.slice(z) for z in np.linspace(foot + 0.05, top - 0.05, count + 1)]
    shape = shaft_shape(plan.shape, rotation[:2] @ stands.tongue[wanted.fdi], slices, sizes)
    if shape is None:
        return NoDie(wanted.fdi, f"the base is too narrow there for a socket with walls of {sizes.wall:.1f} mm")
    return _Begun(wanted, teeth, rotation, plan, top, foot, slices, shape)


def _floor(stands: Stands, rotation: NDArray, ring: NDArray) -> float:
    """z of the underside's highest place within an outline."""
    up = rotation @ stands.up
    return float(((stands.floor @ stands.up - ring @ up[:2]) / up[2]).max())


def _apart(begun: list[_Begun]) -> list[_Begun]:
    """Of two whose plans come nearer to one another than that, the second gives way: no two dies hang together."""
    for k, one in enumerate(begun):
        for two in begun[k + 1 :]:
            around = one.plan.shape.offset(_BETWEEN_MM, ROUND, 2.0, SIDES)
            if (around ^ two.plan.shape).area() > 0:
                left = largest(two.plan.shape - around)
                two.plan = replace(two.plan, shape=left) if left is not None else two.plan
    return begun


def _settled(begun: list[_Begun], sizes: DieSizes) -> tuple[list[_Begun], list[NoDie]]:
    """With shafts that leave one another walls, and are long enough for their feet."""
    shapes = give_way([each.shape for each in begun], sizes)
    good, bad = [], []
    for each, shape in zip(begun, shapes, strict=True):
        if shape is None:
            bad.append(NoDie(each.wanted.fdi, "between its neighbours' sockets there is no room for its own"))
            continue
        each.shape = shape
        shaft = _shaft(each, sizes)
        if shaft.length < _need(shaft):
            bad.append(_too_short(each.wanted.fdi, shaft))
        elif shaft.seat_mm2 < _LEAST_SEAT_MM2:
            bad.append(
                NoDie(each.wanted.fdi, f"its shaft would end on {max(shaft.seat_mm2, 0.0):.1f} mm²: less taper or thinner walls leave more")
            )
        else:
            good.append(each)
    return good, bad


def _need(shaft: Shaft) -> float:
    """How long a shaft has to be, for its foot too."""
    return max(float(shaft.steep * shaft.across(shaft.ring).max()) + _STRAIGHT_MM, LEAST_LONG_MM)


def _too_short(fdi: int, shaft: Shaft) -> NoDie:
    need = _need(shaft)
    long = need if need > shaft.sizes.deep else 0.0
    return NoDie(fdi, f"its shaft would be {max(shaft.length, 0.0):.1f} mm long, and {need:.1f} mm are needed", need - shaft.length, long)


def _shaft(begun: _Begun, sizes: DieSizes) -> Shaft:
    return Shaft.of(ring_of(begun.shape), begun.top, begun.foot, sizes)


def _heads(stands: Stands, begun: Sequence[_Begun], sizes: DieSizes) -> list[Mesh]:
    """What stands within each plan, cut out of the body in one go."""
    prisms = []
    for each in begun:
        high = float((stands.body.vertices_mm @ each.rotation[2]).max()) + _OVER_MM
        prism = manifold3d.Manifold.extrude(each.plan.shape, high - each.top).translate([0, 0, each.top])
        prisms.append(prism.transform(_homewards(each.rotation)))
    whole = manifold3d.Manifold.batch_boolean(prisms, manifold3d.OpType.Add)
    cut = assemble(_ditched(stands.body, begun, sizes), only=("the dies", home_mesh(whole, np.eye(3)))).body
    _, piece = face_components(cut)
    out = []
    for each in begun:
        own = np.isin(cut.source, each.teeth.own.source[each.teeth.own.source >= 0]) & (cut.source >= 0)
        out.append(cut.of_faces(piece == int(np.bincount(piece[own]).argmax())))
    return out


def _ditched(body: Mesh, begun: Sequence[_Begun], sizes: DieSizes) -> Mesh:
    """The gum round each die, outside of the strip, goes down along its way, on a ramp: below its margin where it stands over that. Done
    while the surface is whole, so that what is cut out of it after has plain walls."""
    points = body.vertices_mm.copy()
    # Never a tooth that is worked on.
    stays = np.zeros(len(points), bool)
    for each in begun:
        own = np.isin(body.source, each.teeth.own.source) & (body.source >= 0)
        stays[body.faces[own].ravel()] = True
    for each in begun:
        if not each.wanted.ditched or sizes.ditch <= 0:
            continue
        flat = body.vertices_mm @ each.rotation.T
        around = each.plan.shape.offset(_BESIDE_MM, ROUND, 2.0, SIDES)
        near_it = np.flatnonzero(~stays & (flat[:, 2] > each.top) & _in_box(flat, around.bounds()))
        near_it = near_it[in_ring(flat[near_it, :2], np.asarray(around.to_polygons()[0]))]
        away = ClosestPoints(each.teeth.own).query(body.vertices_mm[near_it]).distance_mm
        share = np.clip((away - sizes.strip) / _RAMP_MM, 0, 1)
        height = flat[near_it, 2]
        over = np.maximum(height - _margin_height(each, flat[near_it, :2]), 0.0)
        down = np.minimum(share * share * (3 - 2 * share) * (over + sizes.ditch), np.maximum(height - each.top - 0.5 * _LOW_MM, 0.0))
        # Of two dies side by side each has its own side: what lies beyond the other's wall is cut off.
        points[near_it] = np.where(
            (down > 0)[:, None] & (points[near_it] == body.vertices_mm[near_it]).all(1)[:, None],
            body.vertices_mm[near_it] - down[:, None] * each.rotation[2], points[near_it],
        )  # fmt: skip
    return _without_folds(body, points)


def _margin_height(begun: _Begun, places: NDArray[np.float64]) -> NDArray[np.float64]:
    """(k,) how high its margin runs next to each place in the plan. Where it meets a neighbour the edge of the tooth climbs up the contact:
    the lower part of what lies about there counts."""
    loop = max(border_loops(begun.teeth.own), key=len)
    edge = begun.teeth.own.vertices_mm[loop] @ begun.rotation.T
    around = edge[:, :2] - edge[:, :2].mean(0)
    turn = np.arctan2(around[:, 1], around[:, 0])
    apart = np.abs((turn[:, None] - turn[None] + np.pi) % (2 * np.pi) - np.pi)
    low = np.array([np.percentile(edge[near_it, 2], _LOW_PERCENT) for near_it in apart < _ABOUT_RAD])
    return low[cKDTree(edge[:, :2]).query(places)[1]]


def _without_folds(body: Mesh, points: NDArray[np.float64]) -> Mesh:
    """Where the gum would cross itself as it goes down (deep between two teeth it already hangs over), it stays about there."""
    out = body.with_vertices(points)
    went = (points != body.vertices_mm).any(1)
    touched = went[body.faces].any(1)
    before = crossing_faces(body, among=touched)
    for _ in range(_FOLDS):
        folded = crossing_faces(out, among=touched) & ~before
        if not folded.any():
            break
        places = body.vertices_mm[np.unique(body.faces[folded])]
        moved = np.flatnonzero(went)
        share = np.clip(cKDTree(places).query(body.vertices_mm[moved])[0] / _EASED_MM - 0.5, 0, 1)
        points = out.vertices_mm.copy()
        points[moved] = body.vertices_mm[moved] + share[:, None] * (points[moved] - body.vertices_mm[moved])
        out = body.with_vertices(points)
    return out


def _in_box(points: NDArray, box: tuple[float, float, float, float]) -> NDArray[np.bool_]:
    x, y = points[:, 0], points[:, 1]
    return (x > box[0]) & (x < box[2]) & (y > box[1]) & (y < box[3])


def _homewards(rotation: NDArray) -> NDArray[np.float64]:
    return np.c_[rotation.T, np.zeros(3)]


def _made(stands: Stands, begun: _Begun, head: Mesh, body: manifold3d.Manifold, sizes: DieSizes, number: str) -> Die:
    shaft, rotation = _shaft(begun, sizes), begun.rotation
    below = letters(shaft, str(begun.wanted.fdi), number)
    cut = [("the number", home_mesh(below, rotation))] if below is not None else []
    mesh = assemble(head, add=[("the shaft", home_mesh(shaft.solid(), rotation))], cut=cut).body
    floor = _floor(stands, rotation, shaft.at(shaft.foot))
    cheek = -(rotation[:2] @ stands.tongue[begun.wanted.fdi])
    window = window_of(shaft, cheek, body, _LONGEST_WINDOW_MM)
    lost = [shaft.solid(sizes.air), _room(begun, float(body.bounding_box()[5]), sizes), hole_of(shaft, floor - sizes.under)]
    up = rotation @ stands.up
    vent = vent_of(shaft, cheek / np.linalg.norm(cheek), up, float(stands.floor @ stands.up), body)
    lost += [tunnel(window, shaft)] if window else []
    lost += [vent.solid()] if vent else []
    whole = manifold3d.Manifold.batch_boolean([m for m in lost if m is not None], manifold3d.OpType.Add)
    high = float((begun.teeth.own.vertices_mm @ rotation[2]).max())
    lines, wide = kept_off(begun.plan.shape.offset(sizes.room, ROUND, 2.0, SIDES), shaft, floor - sizes.under, high, window, vent)
    return Die(
        begun.wanted, begun.teeth, mesh, home_mesh(whole, rotation), rotation, shaft, begun.plan,
        wall_mm=_wall(begun, shaft), overlap_mm=overlap([begun.teeth], rotation[2]), kept=_kept(begun.teeth.own, mesh),
        window=None if window is None else window_line(shaft, window) @ rotation, numbered=below is not None,
        lines=lines @ rotation, wide=wide,
    )  # fmt: skip


def _room(begun: _Begun, high: float, sizes: DieSizes) -> manifold3d.Manifold:
    """What the model loses round the head, all the way up."""
    wide, low = begun.plan.shape.offset(sizes.room, ROUND, 2.0, SIDES), begun.top - UNDER_MM
    return manifold3d.Manifold.extrude(wide, high + _OVER_MM - low).translate([0, 0, low])


def _wall(begun: _Begun, shaft: Shaft) -> float:
    """Round the socket at its thinnest, where the body was sliced: at its top it is widest, so that outline counts at every height."""
    socket = shaft.at(shaft.top, shaft.sizes.air)
    rings = [np.asarray(ring) for slice_ in begun.slices for ring in slice_.to_polygons()]
    return min((least_apart(ring, socket) for ring in rings), default=0.0)


def _between(made: Sequence[Die], sizes: DieSizes) -> dict[tuple[int, int], float]:
    out = {}
    for k, one in enumerate(made):
        for two in made[k + 1 :]:
            if np.array_equal(one.rotation, two.rotation):
                apart = least_apart(*(d.shaft.at(d.shaft.top, sizes.air) for d in (one, two)))
                out[one.wanted.fdi, two.wanted.fdi] = apart
    return out


def _kept(own: Mesh, die: Mesh) -> float:
    """The share of a tooth's faces that a die has bit for bit."""
    there = set(_keys(die))
    return sum(key in there for key in _keys(own)) / max(own.triangles, 1)


def _keys(mesh: Mesh) -> Iterator[bytes]:
    corner = mesh.vertices_mm[mesh.faces] + 0.0
    # Wherever the library begins a face: the least corner first.
    first = np.lexsort((corner[..., 2], corner[..., 1], corner[..., 0]), axis=1)[:, 0]
    turned = corner[np.arange(len(corner))[:, None], (first[:, None] + np.arange(3)) % 3]
    return (row.tobytes() for row in turned.reshape(len(corner), 9))
