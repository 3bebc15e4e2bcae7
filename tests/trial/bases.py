"""Bases and cavities over many generated jaws: four shapes, solid and hollow, judged by other libraries and on the finished bodies."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import igl
import numpy as np
from numpy.typing import NDArray

from bitecore.engine.gives import unpack
from bitecore.files import stl
from bitecore.mesh import GROUP_CUT, GROUP_SCAN, Mesh, check_solid, face_components, face_normals
from bitecore.runsheet import CASE, CaseDocument, MemoryStore, PieceEntry, evaluate
from bitecore.runsheet.who import CaseGraph
from demo.arch import Pair, pair

from .intake import plan, wide_plan
from .second import Mouth, mouth, second_plan

SHAPES = ("horseshoe", "closed", "squared", "flat")
STYLES = ("solid", "open", "closed")
WALL_MM = 2.0
_CROWNS_MM = 4.0
# By turns, so that every edge and draft meets every shape.
_EDGES = ({"edge": "sharp"}, {"edge": "bevelled", "edge_mm": 0.8}, {"edge": "rounded", "edge_mm": 1.0}, {"draft_deg": 3.0})


@dataclass(frozen=True)
class BaseOutcome:
    """One body. why : why there is none, else empty

    closed    : watertight, manifold, outward
    parts     : of the surface; a closed cavity has one of its own before its drains
    deeper    : share of probes 2 µm off the faces that lie wrong by the winding number (libigl), of faces that are not the scan's
    flat_mm   : how far the underside is off its plane
    crowns    : share of the scan's vertices within 4 mm of the occlusal plane that are the scan's bit for bit
    thin_mm   : of a hollow one, the thinnest wall between the cavity's and the body's corners (libigl), less what was asked
    shape     : it has the shape that was asked
    seconds   : of Base, and of Hollow
    """

    jaw: str
    shape: str
    style: str
    why: str = ""
    closed: bool = False
    parts: int = 0
    deeper: float = 0.0
    flat_mm: float = 0.0
    crowns: float = 0.0
    thin_mm: float | None = None
    clean: bool = False
    asked_shape: bool = False
    seconds: tuple[float, float] = (0.0, 0.0)

    @property
    def good(self) -> bool:
        sound = self.closed and self.parts == 1 and self.deeper < 0.001 and self.flat_mm <= 0.005 and self.crowns > 0.999
        return sound and self.asked_shape and self.clean and (self.thin_mm is None or self.thin_mm > -0.05)


def judged_bases(number: int, *, grid_mm: float = 0.45) -> list[BaseOutcome]:
    return _judged(number, pair(plan(number, grid_mm=grid_mm)))


def judged_wide_bases(number: int, *, grid_mm: float = 0.45) -> list[BaseOutcome]:
    return _judged(number, pair(wide_plan(number, grid_mm=grid_mm)))


def judged_second_bases(number: int, *, step_mm: float = 0.35) -> list[BaseOutcome]:
    return _judged(number, mouth(second_plan(number, step_mm=step_mm)))


def _judged(number: int, both: Pair | Mouth) -> list[BaseOutcome]:
    store = MemoryStore()
    pieces = [
        PieceEntry(id=p, file=f"{p}.stl", sha256=store.blobs.write(stl.write_binary(jaw.mesh)))
        for p, jaw in (("p1", both.upper), ("p2", both.lower))
    ]
    document = CaseDocument(number="trial", pieces=pieces)
    out = []
    for turn, shape in enumerate(SHAPES):
        for style in STYLES:
            base = {"shape": shape, "thickness_mm": 3.0, "flush": number % 2 == 1, **_EDGES[(number + turn) % len(_EDGES)]}
            hollow = {"style": style, "wall_mm": WALL_MM}
            asked = document.model_copy(update={"settings": {"base": {"*": base}, "hollow": {"*": hollow}}})
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
    scan: Mesh = unpack(node("intake").good.values["mesh"], store.blobs)
    foot = unpack(graph.node("foot").good.values["foot"], store.blobs)[piece]
    up, origin = np.array(foot["up"]), np.array(foot["origin"])
    height = (body.vertices_mm - origin) @ up
    low = float(height.min())
    check = check_solid(body)
    codes = {f["code"] for f in node("base").manifest.flags}
    own = np.unique(body.faces[body.groups == GROUP_SCAN])
    own = own[np.abs(height[own]) < _CROWNS_MM]
    known = {v.tobytes() for v in scan.vertices_mm}
    thin = None
    if style != "solid":
        room = next((s.mesh for s in unpack(node("hollow").good.values["solids"], store.blobs)), None)
        thin = None if room is None else _thinnest(unpack(node("base").good.values["body"], store.blobs), room, up, style) - WALL_MM
    return BaseOutcome(
        jaw, shape, style,
        closed=not (check.open_edges or check.crowded_edges or check.turned_edges),
        parts=face_components(body)[0],
        deeper=_deeper(body),
        flat_mm=float(np.abs(height[_bottom(body, up, height, low)] - low).max(initial=0.0)),
        crowns=float(np.mean([body.vertices_mm[v].tobytes() in known for v in own])),
        thin_mm=thin,
        clean="ragged-walls" not in codes,
        asked_shape="other-shape" not in codes,
        seconds=(float(node("base").manifest.seconds), float(node("hollow").manifest.seconds) if style != "solid" else 0.0),
    )  # fmt: skip


def _bottom(body: Mesh, up: NDArray, height: NDArray, low: float) -> NDArray[np.int64]:
    faces = (face_normals(body) @ up < -0.99) & (height[body.faces].min(1) < low + 0.3)
    return np.unique(body.faces[faces])


def _deeper(body: Mesh) -> float:
    """Share of the made faces 2 µm outside of which the generalised winding number (Jacobson 2013, libigl) is not 0, or inside not 1."""
    made = np.flatnonzero((body.groups == GROUP_CUT) & (np.linalg.norm(face_normals(body), axis=1) > 0.5))
    made = made[:: max(len(made) // 6000, 1)]
    middle, normal = body.vertices_mm[body.faces[made]].mean(1), face_normals(body)[made]
    wrong = np.zeros(len(made), bool)
    for side, inside in ((0.002, 0.0), (-0.002, 1.0)):
        wrong |= np.abs(igl.fast_winding_number(body.vertices_mm, body.faces.astype(np.int64), middle + side * normal) - inside) > 0.5
    return float(wrong.mean())


def _thinnest(solid: Mesh, room: Mesh, up: NDArray, style: str) -> float:
    height = solid.vertices_mm @ up
    low = float(height.min())
    off = (height[solid.faces] < low + 1e-3).all(1) if style == "open" else np.zeros(solid.triangles, bool)
    points = room.vertices_mm[room.vertices_mm @ up > low + 0.05]
    return float(np.sqrt(igl.point_mesh_squared_distance(points, solid.vertices_mm, solid.faces[~off].astype(np.int64))[0].min()))
