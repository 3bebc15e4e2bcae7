"""Everything a child needs, imported; and run once on a small mesh so that compiled kernels are on disk."""

from __future__ import annotations

import sys

import numpy as np

from .. import views
from ..anatomy.arch_sides import arch_sides
from ..anatomy.edge_line import Keep, kept, known, line_of
from ..anatomy.marks import Mark, marked
from ..files import stl
from ..files import warm as files_warm
from ..mesh import Mesh
from ..mesh.topology import check_solid
from ..ops import base, border, clip, closest, holes, mend, picture, relief, weld  # noqa: F401
from ..ops.packing import box_foot, packed
from ..ops.reduce import reduced
from ..ops.touch import Touch, touched_up
from .sheet import CASE


def arch() -> Mesh:
    """A plain horseshoe with a hole, a loose bit and a bow-tie: enough to go through every kernel."""
    t, s = np.meshgrid(np.linspace(-1.4, 1.4, 120), np.linspace(-1, 1, 30), indexing="ij")
    bump = 1.5 * np.cos(t * 14) ** 2
    x = (24 + 6 * s) * np.sin(t)
    y = 30 - (30 + 6 * s) * np.cos(t)
    z = (8 + bump) * (1 - s**4) - 8 * np.abs(s)
    n, m = t.shape
    i, j = np.meshgrid(np.arange(n - 1), np.arange(m - 1), indexing="ij")
    a = (i * m + j).ravel()
    faces = np.vstack([np.c_[a, a + m, a + 1], np.c_[a + 1, a + m, a + m + 1]])
    keep = np.ones(len(faces), bool)
    keep[[700, 701, 702, 2000, 2400]] = False
    return Mesh.of(np.c_[x.ravel(), y.ravel(), z.ravel()], faces[keep])


def through_the_sheet() -> None:
    """Two small jaws through the whole run sheet."""
    from ..engine.evaluate import evaluate
    from ..engine.store import MemoryStore
    from .document import CaseDocument, PieceEntry

    store, lower = MemoryStore(), arch()
    upper = lower.moved(np.diag([1.0, 1.0, -1.0, 1.0]) + np.array([[0] * 4, [0] * 4, [0, 0, 0, 24.0], [0] * 4]))
    pieces = []
    for name, mesh in (("u", upper), ("l", lower)):
        pieces.append(PieceEntry(id=name, file=f"{name}.stl", sha256=store.blobs.write(stl.write_binary(mesh))))
    jaws = {"u": {"jaw": "upper", "kind": "jaw"}, "l": {"jaw": "lower", "kind": "jaw"}}
    settings = {
        "intake": jaws, "hollow": {"*": {"style": "open"}}, "articulate": {"*": {"style": "pins"}},
        "plate": {"*": {"printer": "heron", "supports": "all"}},
    }  # fmt: skip
    document = CaseDocument(pieces=pieces, settings=settings)
    evaluate(document, CASE, store, demanded=frozenset({"hand-off"}))


def beside_the_sheet() -> None:
    """What two small jaws do not come by, and what is only looked at."""
    lower = arch()
    border.calmed_border(border.cut_strip(lower, lower.vertices_mm[:3], radius_mm=1.0))
    _by_hand(lower)
    holes._least_area(np.random.default_rng(0).random((5, 3)))
    clip.saw_solid(_box(), point_mm=[0, 0, 0.5], keep_towards=[0, 0, 1])
    closest.ClosestPoints(lower).signed(lower.vertices_mm, within_mm=1.0)
    packed({"one": box_foot(np.array([5.0, 3.0]))}, np.array([20.0, 20.0]), gap_mm=1.0)
    views.glb(lower, light=True)
    views.glb(lower)
    picture.picture([(lower, np.eye(4))], size_px=(64, 32))
    check_solid(lower)
    files_warm.read_each()


def _by_hand(mesh: Mesh) -> None:
    """What only runs once a person has done something."""
    ring = np.array([[-2.0, -30, 2], [2, -30, 2], [2, -30, 6], [-2, -30, 6]])
    way = np.array([0.0, 0, 1])
    made = [
        Mark("fence", ring, eye=np.array([0.0, -200, 4]), reach="near"), Mark("swab", mesh.vertices_mm[:3], mm=1.0),
        Mark("grow", ring[:0], mm=0.5), Mark("saw", mesh.vertices_mm[:1], towards=way), Mark("piece", mesh.vertices_mm[:1]),
    ]  # fmt: skip
    none = np.zeros(len(mesh.vertices_mm), bool)
    marked(mesh, made, none.astype(np.int64))
    touched_up(mesh, [(Touch(kind, mesh.vertices_mm[40:42], 1.0, 0.5), none) for kind in ("add", "smooth")])
    reduced(mesh, triangles=mesh.triangles // 2)
    tooth = mesh.vertices_mm[:, 2] > 7
    sides = arch_sides(mesh.vertices_mm[[400, 900, 1400]], np.full(3, 5.0), up=way, front=np.array([0.0, -1, 0]))
    line_of(mesh, kept(mesh, known(mesh, tooth.astype(np.int64), {}, [], way), sides, Keep(2.0, 2.0, 2.0, 0.5), mesh.vertices_mm[:1]).value)


def _box() -> Mesh:
    v = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float)
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return Mesh.of(v, [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def warm_up(*halves: str) -> None:
    """Compile (or load) every kernel: of both halves, or of those named ("sheet", "beside"), each in a process of its own."""
    for name in halves or ("sheet", "beside"):
        {"sheet": through_the_sheet, "beside": beside_the_sheet}[name]()


if __name__ == "__main__":
    warm_up(*sys.argv[1:])
