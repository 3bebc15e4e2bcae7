"""Bases, cavities and labels over many generated jaws: four shapes, solid and hollow, judged by other libraries and on the finished
bodies."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import igl
import numpy as np
from numpy.typing import NDArray

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, check_solid, face_components, face_normals
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo import variants
from demo.arch import Pair, pair

from .intake import plan, wide_plan
from .second import Mouth, mouth, second_plan

SHAPES = ("horseshoe", "closed", "squared", "flat")
STYLES = ("solid", "open", "closed")
WALL_MM = 2.0
_CROWNS_MM, _PROBE_MM = 4.0, 0.002
# By turns, so that every edge and draft meets every shape.
# Stretches without teeth: one side to its end, both ends, the front, all molars.
_TOOTHLESS = (
    (14, 15, 16, 17, 45, 46, 47), (16, 17, 26, 27, 36, 37, 46, 47), (11, 12, 21, 22, 31, 32, 41, 42), (24, 25, 26, 27, 34, 35, 36, 37),
)  # fmt: skip
_EDGES = ({"edge": "sharp"}, {"edge": "bevelled", "edge_mm": 0.8}, {"edge": "rounded", "edge_mm": 1.0}, {"draft_deg": 3.0})


@dataclass(frozen=True)
class BaseOutcome:
    """One body. why : why there is none, else empty

    closed    : watertight, manifold, outward
    parts     : of the surface; a closed cavity has one of its own before its drains
    deeper    : share of probes 2 µm off the faces where the body lies in itself by the winding number (libigl): it is neither 0 nor 1; of
                faces that are not the scan's and are wide enough for them: off slivers near an edge a probe lies beyond the next face
    wrong     : share of them that are not outside, or not inside: beyond the next face of an edge thinner than 2 µm, if that is not more
    flat_mm   : how far the underside is off its plane
    crowns    : share of the scan's vertices within 4 mm of the occlusal plane that are those of the cleaned scan, bit for bit; without
                those on the line along which it was cut
    mended    : share of them that is not the scan's as it came: folds and holes closed by Clean
    thin_mm   : of a hollow one, the thinnest wall between the cavity's and the body's corners (libigl), less what was asked
    shape     : it has the shape that was asked
    label     : on the wall, underneath, or nowhere
    off_mm    : from the letters to the scan (libigl); behind_mm : from them to the cavity, less the wall that was asked
    seconds   : of Base, of Hollow and of Label
    """

    jaw: str
    shape: str
    style: str
    why: str = ""
    closed: bool = False
    parts: int = 0
    deeper: float = 0.0
    wrong: float = 0.0
    flat_mm: float = 0.0
    crowns: float = 0.0
    mended: float = 0.0
    thin_mm: float | None = None
    clean: bool = False
    asked_shape: bool = False
    label: str = "nowhere"
    off_mm: float | None = None
    behind_mm: float | None = None
    seconds: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @property
    def good(self) -> bool:
        sound = self.closed and self.parts == 1 and self.deeper == 0 and self.wrong < 0.001 and self.flat_mm <= 0.005 and self.crowns == 1
        thick = all(mm is None or mm > -0.05 for mm in (self.thin_mm, self.behind_mm))
        return sound and self.asked_shape and self.clean and thick and (self.off_mm is None or self.off_mm > 0.2)


def judged_bases(number: int, *, grid_mm: float = 0.45) -> list[BaseOutcome]:
    return _judged(number, pair(plan(number, grid_mm=grid_mm)))


def judged_wide_bases(number: int, *, grid_mm: float = 0.45) -> list[BaseOutcome]:
    return _judged(number, pair(wide_plan(number, grid_mm=grid_mm)))


def judged_second_bases(number: int, *, step_mm: float = 0.35) -> list[BaseOutcome]:
    return _judged(number, mouth(second_plan(number, step_mm=step_mm)))


def judged_toothless_bases(number: int, *, grid_mm: float = 0.45) -> list[BaseOutcome]:
    made = replace(wide_plan(500 + number, grid_mm=grid_mm), gaps=_TOOTHLESS[number % len(_TOOTHLESS)])
    return _judged(number, pair(made))


def judged_impression_bases(number: int, *, grid_mm: float = 0.45) -> list[BaseOutcome]:
    """An impression of one jaw, set to it on its tile, beside the scan of the other."""
    both = pair(wide_plan(700 + number, grid_mm=grid_mm))
    upper = number % 2 == 0
    scans = {"p1": both.upper.mesh, "p2": both.lower.mesh}
    which = "p1" if upper else "p2"
    scans[which] = variants.impression(both.upper if upper else both.lower, upper=upper)
    said = {which: {"kind": "jaw", "jaw": "upper" if upper else "lower", "inside": "turn"}}
    return _bodies(number, scans, {"intake": said})


def _judged(number: int, both: Pair | Mouth) -> list[BaseOutcome]:
    return _bodies(number, {"p1": both.upper.mesh, "p2": both.lower.mesh}, {})


def _bodies(number: int, scans: dict[str, Mesh], said: dict[str, Any]) -> list[BaseOutcome]:
    """Every shape, with one of the styles by turns."""
    store = MemoryStore()
    pieces = [PieceEntry(id=p, file=f"{p}.stl", sha256=store.blobs.write(stl.write_binary(scan))) for p, scan in scans.items()]
    document = CaseDocument(number=f"trial-{number}", pieces=pieces)
    out = []
    for turn, shape in enumerate(SHAPES):
        for style in (STYLES[(number + turn) % len(STYLES)],):
            base = {"shape": shape, "thickness_mm": 3.0, "flush": number % 2 == 1, **_EDGES[(number + turn) % len(_EDGES)]}
            hollow = {"style": style, "wall_mm": WALL_MM}
            settings = {"base": {"*": base}, "hollow": {"*": hollow}, "label": {"*": {"style": "engraved"}}}
            asked = document.model_copy(update={"settings": settings | said})
            graph = evaluate(asked, CASE, store, until="assemble").graph
            out += [_outcome(graph, store, piece, jaw, shape, style) for piece, jaw in graph.jaws.items()]
    return out


def _outcome(graph: CaseGraph, store: MemoryStore, piece: str, jaw: str, shape: str, style: str) -> BaseOutcome:
    def node(step: str) -> Any:
        return graph.node(step, piece)

    if node("assemble") is None or node("assemble").good is None:
        why = next((f["message"] for n in graph.nodes.values() if n.manifest and n.manifest.stopped for f in n.manifest.flags), "waits")
        return BaseOutcome(jaw, shape, style, why=why)
    body: Mesh = unpack(node("assemble").good.values["body"], store.blobs)
    came, cleaned = ({v.tobytes() for v in unpack(node(s).good.values["mesh"], store.blobs).vertices_mm} for s in ("intake", "clean"))
    foot = unpack(graph.node("foot").good.values["foot"], store.blobs)[piece]
    up, origin = np.array(foot["up"]), np.array(foot["origin"])
    height = (body.vertices_mm - origin) @ up
    # Before it is hollow: of an open body a shallow roof of the cavity looks down close over the plate too.
    solid: Mesh = unpack(node("base").good.values["body"], store.blobs)
    foot_of = (solid.vertices_mm - origin) @ up
    low = float(foot_of.min())
    check = check_solid(body)
    codes = {f["code"] for f in node("base").manifest.flags}
    # The line along which it was cut is new.
    own = np.setdiff1d(body.faces[body.groups == GROUP_SCAN], body.faces[body.groups == GROUP_CUT])
    own = own[np.abs(height[own]) < _CROWNS_MM]
    points = [v.tobytes() for v in body.vertices_mm[own]]
    thin, room = None, None
    if style != "solid":
        room = next((s.mesh for s in unpack(node("hollow").good.values["solids"], store.blobs)), None)
        thin = None if room is None else _thinnest(unpack(node("base").good.values["body"], store.blobs), room, up, style) - WALL_MM
    letters = next((s.mesh for s in unpack(node("label").good.values["solids"], store.blobs)), None)
    label = next((each["where"] for each in node("label").json("labels")), "nowhere")
    deeper, wrong = _probed(body)
    return BaseOutcome(
        jaw, shape, style,
        closed=not (check.open_edges or check.crowded_edges or check.turned_edges),
        parts=face_components(body)[0],
        deeper=deeper, wrong=wrong,
        flat_mm=float(np.abs(foot_of[_bottom(solid, up, foot_of, low)] - low).max(initial=0.0)),
        crowns=float(np.mean([p in cleaned for p in points])) if points else 1.0,
        mended=float(np.mean([p not in came for p in points])) if points else 0.0,
        thin_mm=thin,
        clean="ragged-walls" not in codes,
        asked_shape="other-shape" not in codes,
        label=label,
        off_mm=None if letters is None else _between(letters, body.of_faces(body.groups == GROUP_SCAN)),
        behind_mm=None if letters is None or room is None else _between(room, letters) - WALL_MM,
        seconds=tuple(float(node(step).manifest.seconds) if step != "hollow" or room else 0.0 for step in ("base", "hollow", "label")),
    )  # fmt: skip


def _bottom(body: Mesh, up: NDArray, height: NDArray, low: float) -> NDArray[np.int64]:
    faces = (face_normals(body) @ up < -0.99) & (height[body.faces].min(1) < low + 0.3)
    return np.unique(body.faces[faces])


def _probed(body: Mesh) -> tuple[float, float]:
    """(share of the made faces, wider than a probe, beside which the generalised winding number (Jacobson 2013, libigl) 2 µm off is neither
    0 nor 1; share of them where it is not 0 outside, or not 1 inside)."""
    made = np.flatnonzero((body.groups == GROUP_CUT) & (_widths(body) > 2 * _PROBE_MM))
    made = made[:: max(len(made) // 6000, 1)]
    middle, normal = body.vertices_mm[body.faces[made]].mean(1), face_normals(body)[made]
    deeper, wrong = np.zeros(len(made), bool), np.zeros(len(made), bool)
    for side, inside in ((_PROBE_MM, 0.0), (-_PROBE_MM, 1.0)):
        at = middle + side * normal
        turns = igl.fast_winding_number(body.vertices_mm, body.faces.astype(np.int64), at)
        # The fast one is not exact: where it is off, the sum over all faces tells.
        off = np.flatnonzero(np.abs(turns - inside) > 0.4)
        if len(off):
            turns[off] = igl.winding_number(body.vertices_mm, body.faces.astype(np.int64), at[off])
        deeper |= np.abs(turns - 0.5) > 1.0
        wrong |= np.abs(turns - inside) > 0.5
    return float(deeper.mean()), float(wrong.mean())


def _widths(body: Mesh) -> NDArray[np.float64]:
    """(f,) of the circle in each face, its radius (mm)."""
    a, b, c = (body.vertices_mm[body.faces[:, k]] for k in range(3))
    round_ = sum(np.linalg.norm(x - y, axis=1) for x, y in ((a, b), (b, c), (c, a)))
    return np.linalg.norm(np.cross(b - a, c - a), axis=1) / np.maximum(round_, 1e-12)


def _between(points: Mesh, other: Mesh) -> float:
    """From the corners of one to the surface of another, at the least (mm)."""
    return float(np.sqrt(igl.point_mesh_squared_distance(points.vertices_mm, other.vertices_mm, other.faces.astype(np.int64))[0].min()))


def _thinnest(solid: Mesh, room: Mesh, up: NDArray, style: str) -> float:
    height = solid.vertices_mm @ up
    low = float(height.min())
    off = (height[solid.faces] < low + 1e-3).all(1) if style == "open" else np.zeros(solid.triangles, bool)
    points = room.vertices_mm[room.vertices_mm @ up > low + 0.05]
    return float(np.sqrt(igl.point_mesh_squared_distance(points, solid.vertices_mm, solid.faces[~off].astype(np.int64))[0].min()))
