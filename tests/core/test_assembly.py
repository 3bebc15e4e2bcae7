"""Bodies put together: volumes by hand and by another library, the scan's surface untouched to the last bit, parts split off."""

from __future__ import annotations

import unittest
from collections import Counter
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from bitecore.engine.gives import SOLIDS, Solid, Solids, unpack
from bitecore.engine.model import BODIES, JAWS, Inputs, Need, Step, StepResult, StepSettings, setting
from bitecore.errors import StepFailed
from bitecore.mesh import GROUP_SCAN, MADE, Mesh, check_solid, volume_ml
from bitecore.ops.assembly import assemble
from bitecore.runsheet import CASE, CaseDocument, CaseSheet, MemoryStore, evaluate, standard
from bitecore.runsheet.document import PartEntry
from tests.core.test_runsheet import case
from tests.shapes import box, sphere
from tests.shapes import light_jaws as jaws


def at(mesh: Mesh, x: float, y: float, z: float) -> Mesh:
    return mesh.moved([[1, 0, 0, x], [0, 1, 0, y], [0, 0, 1, z], [0, 0, 0, 1]])


def mm3(mesh: Mesh) -> float:
    return 1000 * volume_ml(mesh)


class AssembleTest(unittest.TestCase):
    def test_volumes_of_cubes_by_hand(self) -> None:
        """10³, with a cube of 4 that stands out by half, less a shaft of 2 × 2 right through, and the left half of it."""
        body = box((10.0, 10.0, 10.0))
        add, cut = at(box((4.0, 4.0, 4.0)), 3, 3, 8), at(box((2.0, 2.0, 30.0)), 1, 1, -5)
        done = assemble(body, add=[("post", add)], cut=[("shaft", cut)])
        self.assertAlmostEqual(mm3(done.body), 1000 + 32 - 40, places=9)
        self.assertTrue(check_solid(done.body).ok)
        half = assemble(body, add=[("post", add)], cut=[("shaft", cut)], only=("left", at(box((5.0, 50.0, 50.0)), 0, -20, -20)))
        self.assertAlmostEqual(mm3(half.body), 500 + 16 - 40, places=9)

    def test_a_cavity_inside_is_closed_all_round(self) -> None:
        done = assemble(box((10.0, 10.0, 10.0)), cut=[("cavity", at(sphere(3, 24), 5, 5, 5))])
        self.assertAlmostEqual(mm3(done.body), 1000 - mm3(sphere(3, 24)), places=9)
        self.assertEqual(check_solid(done.body).open_edges, 0)

    def test_what_is_no_solid_is_refused_by_its_name(self) -> None:
        open_box = box().of_faces(np.arange(10))
        for broken in ({"add": [("the label", open_box)]}, {"cut": [("the label", open_box)]}):
            with self.assertRaises(StepFailed) as caught:
                assemble(box(), **broken)  # type: ignore[arg-type]
            self.assertIn("The label is not one closed solid", caught.exception.message)
        with self.assertRaises(StepFailed) as caught:
            assemble(box(), cut=[("all", at(box((9.0, 9.0, 9.0)), -4, -4, -4))])
        self.assertEqual(caught.exception.code, "nothing-left")


class StampSettings(StepSettings):
    cubes: int = setting(0, ge=0, le=9, label="Cubes", help="How many stand in a row.")
    saw: bool = setting(False, label="Saw", help="Split a piece off.")


def stamped(inputs: Inputs, settings: StampSettings, run: Any) -> StepResult:
    """Cubes sunk half a millimetre into the floor of a body, along its edge, and a slab that splits its left end off."""
    body: Mesh = inputs["body"]
    low = body.vertices_mm.min(0)
    edge = body.vertices_mm[body.vertices_mm[:, 2] < low[2] + 0.01]
    edge = edge[np.argsort(edge[:, 0])]
    out = Solids()
    for k in range(settings.cubes):
        x, y, z = edge[(k + 1) * len(edge) // 10]
        out.append(Solid("add", at(box((3.0, 3.0, 3.0)), x - 1.5, y - 1.5, z - 2.5), f"cube {k}"))
    if settings.saw:
        out.append(Solid("split", at(box((14.0, 200.0, 200.0)), low[0] - 1, low[1] - 50, low[2] - 50), "cut-k1"))
    return StepResult({"solids": out})


STAMP = Step(
    name="stamp", title="Stamp", number=7, version=1, over=JAWS, settings=StampSettings, needs={"body": Need("base", "body")},
    gives={"solids": SOLIDS}, apply=stamped, off=lambda s: not (s.cubes or s.saw),
)  # fmt: skip
STUBS = replace(
    STAMP, name="stubs", title="Stubs", over=BODIES, off=None, needs={"body": Need("assemble", "body")},
    apply=lambda i, s, r: StepResult({}), gives={}, number=8, parts=lambda jaw, teeth, settings: [f"stub-{t}" for t in teeth],
)  # fmt: skip


class CaseTest(unittest.TestCase):
    """One jaw of a case with solids of a step of its own."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()
        cls.sheet = CaseSheet(standard().with_step(STAMP))
        cls.plain = case(cls.store, jaws(21)[1])

    def bodies(self, document: CaseDocument) -> dict[str, Mesh]:
        graph = evaluate(document, self.sheet, self.store, until="plate").graph
        return {n.piece: unpack(n.manifest.values["body"], self.store.blobs) for n in graph.of_step("assemble") if n.manifest}

    def test_without_solids_the_body_is_bases_own(self) -> None:
        graph = evaluate(self.plain, self.sheet, self.store, until="plate").graph
        self.assertEqual(graph.node("stamp", "p1").state, "off")
        self.assertEqual(graph.node("assemble", "p1").mesh("body"), graph.node("base", "p1").mesh("body"))
        self.assertIsNone(graph.node("assemble", "p1").task)

    def test_the_scans_surface_stays_bit_for_bit_and_knows_its_faces(self) -> None:
        base = self.bodies(self.plain)["p1"]
        done = self.bodies(self.plain.model_copy(update={"settings": {"stamp": {"*": {"cubes": 5}}}}))["p1"]
        self.assertTrue(check_solid(done).ok)
        scan, before = done.groups == GROUP_SCAN, base.groups == GROUP_SCAN

        def faces(mesh: Mesh, which: np.ndarray) -> Counter:
            corners = mesh.vertices_mm[mesh.faces[which]]
            return Counter((int(s), *sorted(c.tobytes() for c in one)) for s, one in zip(mesh.source[which], corners, strict=True))

        had, has = faces(base, before), faces(done, scan)
        # The cubes stand at the floor and reach nothing of the scan.
        self.assertTrue(has == had)
        self.assertGreater(len(had), 15_000)
        self.assertTrue((done.groups[done.source == MADE] != GROUP_SCAN).all())
        ours = trimesh.Trimesh(done.vertices_mm, done.faces, process=False)
        self.assertTrue(ours.is_watertight and ours.is_winding_consistent)
        self.assertAlmostEqual(ours.volume / 1000, volume_ml(done), places=6)
        self.assertGreater(volume_ml(done), volume_ml(base))

    def test_a_piece_split_off_is_a_body_of_its_own_and_loses_nothing(self) -> None:
        settings = {"stamp": {"*": {"saw": True}}}
        whole = self.bodies(self.plain)["p1"]
        document = self.plain.model_copy(update={"settings": settings, "parts": {"p1.cut-k1": PartEntry(begins="assemble")}})
        bodies = self.bodies(document)
        self.assertEqual(set(bodies), {"p1", "p1.cut-k1"})
        self.assertAlmostEqual(sum(volume_ml(b) for b in bodies.values()), volume_ml(whole), places=6)
        graph = evaluate(document, self.sheet, self.store, until="hand-off", demanded=frozenset({"hand-off"})).graph
        self.assertEqual(set(graph.node("plate").manifest.values["home_to_plate"]["by_piece"]), {"p1", "p1.cut-k1"})
        names = [f["name"] for f in graph.node("hand-off").manifest.values["files"]["files"]]
        self.assertEqual(len(set(names)), 3, names)

    def test_the_teeth_a_case_is_for_declare_parts(self) -> None:
        sheet = CaseSheet(standard().with_step(STAMP, STUBS))
        document = self.plain.model_copy(update={"teeth": "16 36 37"})
        graph = evaluate(document, sheet, self.store, until="stubs").graph
        # The case has a lower alone: of the upper's tooth there is none.
        self.assertEqual([n.piece for n in graph.of_step("stubs")], ["p1", "p1.stub-36", "p1.stub-37"])
        self.assertEqual({n.jaw for n in graph.of_step("stubs")}, {"lower"})
        # Before that step they are their jaw's model.
        self.assertEqual([n.piece for n in graph.of_step("assemble")], ["p1"])
        own = document.model_copy(update={"settings": {"stubs": {"p1": {"cubes": 1}, "p1.stub-36": {"cubes": 3}}}})
        values = [own.settings_for(STUBS, a).cubes for a in ("p1.stub-36", "p1.stub-37", "p2")]  # type: ignore[attr-defined]
        self.assertEqual(values, [3, 1, 0])

    def test_settings_of_a_step_that_is_off_cost_no_key(self) -> None:
        task = evaluate(self.plain, self.sheet, self.store, until="plate").graph.node("plate").task
        plain = evaluate(self.plain, CASE, self.store, until="plate").graph.node("plate").task
        self.assertEqual(task.key, plain.key)
