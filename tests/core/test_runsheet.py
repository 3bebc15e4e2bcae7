"""The engine's promises: nothing twice, nothing more than depends on it, nothing lost, and steps that are pure."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np

from bitecore.anatomy.whichjaw import Told
from bitecore.engine.document import Layer
from bitecore.engine.gives import json_of, unpack
from bitecore.engine.model import JAWS
from bitecore.engine.task import Task, perform
from bitecore.errors import BadSetting, Cancelled, StepFailed
from bitecore.files import stl
from bitecore.mesh import Mesh, bounds_mm, check_solid
from bitecore.progress import QUIET, Run
from bitecore.runsheet import (
    CASE,
    CaseDocument,
    CaseSheet,
    Flag,
    FolderStore,
    Inputs,
    MemoryStore,
    Need,
    PieceEntry,
    Reading,
    Registry,
    Step,
    StepResult,
    StepSettings,
    evaluate,
    resolve,
    setting,
    standard,
)  # fmt: skip
from demo import rescans
from demo.arch import ArchPlan
from tests.core import forgetful
from tests.shapes import light_jaws as jaws
from tests.shapes import turn

ALL = frozenset({"hand-off"})
LAYERS = ("layers/p1", "layers/p2", "check/p1", "check/p2")


def case(store: Any, *meshes: Mesh, **settings: dict) -> CaseDocument:
    pieces = [PieceEntry(id=f"p{i}", file=f"scan{i}.stl", sha256=store.blobs.write(stl.write_binary(m))) for i, m in enumerate(meshes, 1)]
    return CaseDocument(number="2611-01", pieces=pieces, settings=settings)


class WholeSheetTest(unittest.TestCase):
    """One pair taken through once; every test below starts from its store."""

    store: MemoryStore
    document: CaseDocument

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()
        cls.document = case(cls.store, *jaws(3))
        cls.first = evaluate(cls.document, CASE, cls.store, demanded=ALL)

    def worked(self, document: CaseDocument) -> set[str]:
        """Nodes that had to be worked out for a document, by id."""
        store = MemoryStore()
        store.blobs, store._manifests = self.store.blobs, dict(self.store._manifests)
        done = evaluate(document, CASE, store, demanded=ALL)
        return {n.id for n in done.graph.nodes.values() if n.task and n.task.key in done.worked}

    def with_settings(self, **settings: dict) -> CaseDocument:
        return self.document.model_copy(update={"settings": settings})

    def test_a_kept_setting_that_is_refused_now_stops_its_step_and_what_asks_for_it(self) -> None:
        refused = (("trim", "folds", "x", "bite"), ("hollow", "style", "odd", "label"), ("plate", "layer_mm", 9, "amounts"))
        for step, key, value, waiting in refused:
            settings = {step: {"*": {key: value}}, "label": {"*": {"style": "engraved"}}}
            graph = resolve(self.document.model_copy(update={"settings": settings}), CASE, self.store)
            self.assertEqual({n.state for n in graph.of_step(step)}, {"failed"}, step)
            self.assertEqual({n.state for n in graph.of_step(waiting)}, {"blocked"}, waiting)

    def test_all_steps_end_well(self) -> None:
        states = {n.id: n.state for n in self.first.graph.nodes.values()}
        self.assertEqual(set(states.values()) - {"done", "look", "off"}, set(), states)
        self.assertEqual(
            {name.split("/")[0] for name, state in states.items() if state == "off"},
            {"touch", "marked", "reduce", "hollow", "label", "articulate", "dies", "join", "attach"},
        )
        self.assertEqual(self.first.graph.jaws, {"p1": "upper", "p2": "lower"})
        for piece in ("p1", "p2"):
            ref = self.first.graph.node("base", piece).manifest.values["body"]
            self.assertTrue(check_solid(unpack(ref, self.store.blobs)).ok)

    def test_marks_count_from_the_third_on_each_jaw(self) -> None:
        """While a person sets them one by one nothing is fitted anew."""
        marks = [{"bite": [k, 0, 0], "jaw": jaw, "on": "", "at": [k, 1, 0]} for k in range(3) for jaw in ("upper", "lower")]
        ids = {f"m{n}": mark for n, mark in enumerate(marks, 1)}
        few = {key: ids[key] for key in list(ids)[:5]}
        self.assertEqual(self.worked(self.with_settings(fit={"*": {"marks": {"p9": few}}})), set())
        self.assertIn("fit/*", self.worked(self.with_settings(fit={"*": {"marks": {"p9": ids}}})))

    def test_again_works_nothing_out(self) -> None:
        self.assertEqual(self.worked(self.document), set())

    def test_a_late_change_reaches_only_what_depends_on_it(self) -> None:
        self.assertEqual(
            self.worked(self.with_settings(plate={"*": {"gap_mm": 4.0}})),
            {"plate/*", "hand-off/*", *LAYERS, "supports/p1", "supports/p2"},
        )
        changed = self.worked(self.with_settings(base={"p2": {"thickness_mm": 3.0}}))
        after = {"drains/p2", "plate/*", "hand-off/*", "amounts/p2", "layers/p2", "supports/p2", "check/p2", "takes/*", "ways/p2"}
        self.assertEqual(changed, {"foot/*", "base/p2", "notch/p2", "styles/p2", "wall-map/p2", "measured/*", *after})
        changed = self.worked(self.with_settings(trim={"p1": {"ease_mm": 1.0}}))
        self.assertIn("trim/p1", changed)
        self.assertFalse({"trim/p2", "base/p2", "bite/*", "level/*"} & changed)

    def test_an_unchanged_output_stops_the_recomputation(self) -> None:
        # Bite is judged anew with another bound, but gives the same relation: nothing after it moves.
        self.assertEqual(self.worked(self.with_settings(bite={"*": {"open_mm": 0.7}})), {"bite/*"})

    def test_going_back_is_free(self) -> None:
        store = self.store
        evaluate(self.with_settings(base={"*": {"thickness_mm": 5.0}}), CASE, store, demanded=ALL)
        self.assertEqual(evaluate(self.document, CASE, store, demanded=ALL).worked, set())

    def test_home_is_never_lost(self) -> None:
        """The file in home coordinates lies where the scan lay; in bench coordinates, home_to_bench takes it there."""
        graph = self.first.graph
        body = unpack(graph.node("base", "p2").manifest.values["body"], self.store.blobs)
        home = self.with_settings(**{"hand-off": {"*": {"frame": "home", "threemf": "none"}}})
        files = {}
        for frame, document in (("bench", self.document), ("home", home)):
            done = evaluate(document, CASE, self.store, demanded=ALL).graph.node("hand-off").manifest
            ref = next(r for r in done.values["files"]["files"] if r["name"].endswith("lower.stl"))
            record = np.frombuffer(self.store.blobs.read(ref["file"]), stl.RECORD, offset=84)["corner"]
            files[frame] = record.reshape(-1, 3)
        np.testing.assert_array_equal(files["home"], body.vertices_mm[body.faces].reshape(-1, 3).astype("f4"))
        m = np.array(graph.node("level").manifest.values["home_to_bench"]["by_piece"]["p2"]["json"])
        np.testing.assert_allclose(files["bench"], files["home"] @ m[:3, :3].T + m[:3, 3], atol=2e-5)

    def test_everything_lies_on_the_plate(self) -> None:
        graph = self.first.graph
        plate = graph.node("plate").manifest.values
        boxes = []
        for piece in graph.jaws:
            body = unpack(graph.node("base", piece).manifest.values["body"], self.store.blobs)
            low, high = bounds_mm(body.moved(plate["home_to_plate"]["by_piece"][piece]["json"]))
            self.assertAlmostEqual(low[2], 0.0, places=6)
            self.assertGreaterEqual(min(low[0], low[1]), 2.0 - 1e-6)
            self.assertLessEqual(high[0], plate["plate"]["json"]["width_mm"] - 2 + 1e-6)
            self.assertLessEqual(high[1], plate["plate"]["json"]["depth_mm"] - 2 + 1e-6)
            boxes.append((low, high))
        (a, b), (c, d) = boxes
        self.assertGreaterEqual(max(np.max(c[:2] - b[:2]), np.max(a[:2] - d[:2])), 3.0 - 1e-6)

    def test_turning_by_hand_is_exact(self) -> None:
        before = np.array(self.first.graph.node("level").manifest.values["home_to_bench"]["by_piece"]["p1"]["json"])
        turned = evaluate(self.with_settings(level={"*": {"turn_deg": 30.0, "up_mm": 2.0}}), CASE, self.store, until="level")
        after = np.array(turned.graph.node("level").manifest.values["home_to_bench"]["by_piece"]["p1"]["json"])
        by = after @ np.linalg.inv(before)
        np.testing.assert_allclose(by[:3, :3], [[np.cos(np.pi / 6), -0.5, 0], [0.5, np.cos(np.pi / 6), 0], [0, 0, 1]], atol=1e-9)
        np.testing.assert_allclose(by[:3, 3], [0, 0, 2], atol=1e-9)


class OneJawTest(unittest.TestCase):
    def test_one_jaw_goes_through_alone_from_any_place_inside_out_in_metres(self) -> None:
        store = MemoryStore()
        m = turn(14, 0.0)
        scan = jaws(21)[1].moved(m).turned_inside_out()
        small = Mesh.of(scan.vertices_mm / 1000, scan.faces)
        done = evaluate(case(store, small), CASE, store, until="plate")
        about = done.graph.node("intake", "p1").manifest.values["about"]["json"]
        self.assertEqual((about["unit"], about["turned_inside_out"], about["jaw"]), ("m", True, "lower"))
        bench = np.array(done.graph.node("level").manifest.values["home_to_bench"]["by_piece"]["p1"]["json"])
        up = bench[:3, :3] @ m[:3, 2]
        self.assertGreater(up[2], np.cos(np.radians(3)))
        self.assertIn(done.graph.node("plate").state, ("done", "look"))

    def test_jaws_in_different_coordinates_have_no_bite_and_go_on(self) -> None:
        store = MemoryStore()
        upper, lower = jaws(3)
        document = case(store, upper, lower.moved(turn(5)))
        open_bite = evaluate(document, CASE, store, until="plate").graph
        self.assertEqual([f["code"] for f in open_bite.node("bite").manifest.flags], ["no-relation"])
        # None of them calls itself done: a pair without a bite is none.
        after = [n for n in open_bite.nodes.values() if n.step.name in ("level", "trim", "base", "plate")]
        self.assertEqual({(n.state, n.manifest.flags[0]["code"]) for n in after}, {("look", "bite-left-open")})
        asked = evaluate(document.model_copy(update={"settings": {"bite": {"*": {"source": "none"}}}}), CASE, store, until="plate")
        self.assertEqual(asked.graph.node("plate").state, "done")

    def test_two_that_look_alike_are_told_apart_by_their_overjet_and_it_is_said(self) -> None:
        upper, lower = jaws(3, palate=False)
        # As if the teeth had not told: both look like a lower, neither is sure.
        with patch("bitecore.anatomy.whatis.tell", return_value=Told(-1.0, 0.0)), forgetful():
            for order in ((upper, lower), (lower, upper)):
                store = MemoryStore()
                done = evaluate(case(store, *order), CASE, store, until="bite")
                wanted = "p1" if order[0] is upper else "p2"
                self.assertEqual(done.graph.jaws[wanted], "upper")
                self.assertIn("jaw-guessed", [f["code"] for f in done.graph.node("bite").manifest.flags])

    def test_jaw_set_by_hand_stands(self) -> None:
        store = MemoryStore()
        document = case(store, jaws(21)[1], intake={"p1": {"jaw": "upper", "kind": "jaw"}})
        self.assertEqual(evaluate(document, CASE, store, until="intake").graph.jaws, {"p1": "upper"})

    def test_a_scan_that_is_no_jaw_is_kept_and_said_to_be(self) -> None:
        from tests.shapes import sphere

        store = MemoryStore()
        done = evaluate(case(store, jaws(21)[1], sphere(4, 12)), CASE, store, until="level")
        self.assertEqual(done.graph.jaws, {"p1": "lower"})
        self.assertIn("kept", done.graph.node("intake", "p2").manifest.flags[0]["message"])


class SettingsTest(unittest.TestCase):
    def test_every_setting_says_what_it_is(self) -> None:
        for step in standard().steps:
            for key, field in step.settings.model_fields.items():
                self.assertTrue(field.title and field.description, f"{step.name}.{key}")

    def test_out_of_bounds_is_a_sentence(self) -> None:
        for values, words in (
            ({"thickness_mm": 0.2}, "greater than or equal to 1"),
            ({"thickness_mm": float("nan")}, "finite"),
            ({"wall": 2}, "no setting “wall”"),
        ):
            with self.assertRaises(BadSetting) as caught:
                standard()["base"].check(values)
            self.assertIn(words, caught.exception.message)
        with self.assertRaises(BadSetting):
            standard()["polish"]

    def test_nearer_wins(self) -> None:
        document = CaseDocument(
            layers={"house": Layer(steps={"base": {"thickness_mm": 3.0}})},
            settings={"base": {"*": {"thickness_mm": 4.0}, "p2": {"thickness_mm": 5.0}}},
        )
        base = standard()["base"]
        self.assertEqual(document.settings_for(base, "p1").thickness_mm, 4.0)
        self.assertEqual(document.settings_for(base, "p2").thickness_mm, 5.0)
        self.assertEqual(CaseDocument(layers=document.layers).settings_for(base).thickness_mm, 3.0)


class MeasureSettings(StepSettings):
    factor: float = setting(1.0, ge=0, le=10, label="Factor", help="Times the height.")


def measure(inputs: Inputs, settings: MeasureSettings, run: Run) -> StepResult:
    low, high = bounds_mm(inputs["body"])
    tall = float((high - low)[2]) * settings.factor
    if settings.factor > 9:
        raise StepFailed("Too much of it.", code="too-much", point_mm=low)
    return StepResult({"tall": tall}, (Reading("tall", tall, "mm"),), (Flag("measured", "note", "Measured."),), f"{tall:.1f} mm")


MEASURE = Step(
    name="measure", title="Measure", number=6, version=2, over=JAWS, settings=MeasureSettings,
    needs={"body": Need("base", "body")}, gives={"tall": json_of(float)}, apply=measure,
    upgrades={1: lambda old: {"factor": old.get("times", 1.0)}},
)  # fmt: skip


class AddAStepTest(unittest.TestCase):
    """docs/add-a-step.md, done: one more step is one more value in the registry."""

    def test_it_is_worked_out_after_what_it_needs(self) -> None:
        store = MemoryStore()
        sheet = CaseSheet(standard().with_step(MEASURE))
        document = case(store, jaws(21)[1])
        done = evaluate(document, sheet, store, until="measure")
        node = done.graph.node("measure", "p1")
        self.assertEqual((node.state, node.manifest.readings[0]["unit"]), ("done", "mm"))

    def test_failure_keeps_its_place_and_stops_nothing_else(self) -> None:
        store = MemoryStore()
        sheet = CaseSheet(standard().with_step(MEASURE))
        done = evaluate(case(store, jaws(21)[1], measure={"*": {"factor": 9.5}}), sheet, store)
        node = done.graph.node("measure", "p1")
        self.assertEqual(node.state, "failed")
        flag = node.manifest.flags[0]
        self.assertEqual((flag["severity"], flag["place"]["piece"], flag["place"]["frame"]), ("stop", "p1", "home"))
        self.assertEqual(done.graph.node("plate").state, "done")

    def test_saved_settings_are_upgraded(self) -> None:
        self.assertEqual(MEASURE.check({"times": 3.0}, version=1).factor, 3.0)
        document = CaseDocument(settings={"measure": {"*": {"times": 4.0}}}, versions={"measure": 1})
        self.assertEqual(document.settings_for(MEASURE).factor, 4.0)

    def test_a_step_before_what_it_needs_is_refused(self) -> None:
        with self.assertRaises(ValueError):
            Registry([MEASURE])


class ContractTest(unittest.TestCase):
    """Over every step there is: input untouched, repeatable, settings round-trip, cancellable."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = MemoryStore()
        # With one more scan of the lower and two bite scans, all elsewhere, so that every part of every step has something to do.
        plan = ArchPlan(seed=34, grid_mm=0.6, noise_mm=0.012)
        truth, rng = rescans.true_pair(plan), np.random.default_rng(34)
        upper, lower = (rescans.as_scanned(j.mesh, plan, rng) for j in (truth.upper, truth.lower))
        bites = [rescans.bite_scan(truth, plan, left=left, rng=rng).moved(turn(9)) for left in (True, False)]
        scans = [upper, lower.moved(turn(3)), lower.moved(turn(8)), *bites]
        settings = {
            "hollow": {"*": {"style": "open"}}, "label": {"*": {"style": "engraved"}}, "articulate": {"*": {"style": "pins"}},
            "plate": {"*": {"printer": "heron"}}, "edge": {"*": {"edge": "gum"}}, "reduce": {"*": {"reduce": "deviation"}},
            "dies": {"*": {"dies": "chart"}},
        }  # fmt: skip
        at = [scans[1].vertices_mm[len(scans[1].vertices_mm) // 2].tolist()]
        settings["touch"] = {"p2": {"strokes": {"s1": {"kind": "add", "points_mm": at, "radius_mm": 2.0}}}}
        settings["marked"] = {"p2": {"marks": {"m1": {"kind": "swab", "points_mm": at, "mm": 1.0}}}}
        document = case(cls.store, *scans).model_copy(update={"settings": settings})
        cls.graph = evaluate(document, CASE, cls.store, demanded=ALL).graph
        # An open scan is no body: on the plate it would be waited for.
        more = {"join": {"p2": {"scans": ("p3",)}}, "attach": {"p2": {"parts": {"p1": {"scan": "p9", "at": (0, 0, 0)}}}}}
        joined = evaluate(document.model_copy(update={"settings": settings | more}), CASE, cls.store, until="articulate").graph
        cls.more = [*joined.of_step("join"), *joined.of_step("attach")]

    def tasks(self) -> list[Task]:
        seen = {n.step.name: n.task for n in (*self.graph.nodes.values(), *self.more) if n.task}
        self.assertEqual(set(seen), {s.name for s in standard().steps})
        return list(seen.values())

    def test_repeatable_and_input_untouched(self) -> None:
        for task in self.tasks():
            with self.subTest(task.step):
                before = {k: repr(v) for k, v in task.inputs.items()}
                again = perform(task, standard(), self.store.blobs, QUIET)
                self.assertEqual(again.values, self.store.get(task.key).values)
                self.assertEqual(again.readings, self.store.get(task.key).readings)
                self.assertEqual({k: repr(v) for k, v in task.inputs.items()}, before)

    def test_what_they_give_is_of_the_type_they_name(self) -> None:
        for task in self.tasks():
            step = CASE.registry[task.step]
            inputs = Inputs({name: unpack(ref, self.store.blobs) for name, ref in task.inputs.items()}, **task.tag)
            for name, value in step.apply(inputs, step.check(task.settings), QUIET).values.items():
                with self.subTest(f"{task.step}.{name}"):
                    step.gives[name].check(value)

    def test_settings_round_trip(self) -> None:
        for step in standard().steps:
            values = step.settings()
            self.assertEqual(step.check(values.model_dump(mode="json")), values)

    def test_cancellable(self) -> None:
        for task in self.tasks():
            with self.subTest(task.step), self.assertRaises(Cancelled):
                perform(task, standard(), self.store.blobs, Run(stopped=lambda: True))

    def test_progress_stays_between_nought_and_one(self) -> None:
        for task in self.tasks():
            said: list[float] = []
            perform(task, standard(), self.store.blobs, Run(lambda f, _, said=said: said.append(f)))
            self.assertTrue(said and min(said) >= 0 and max(said) <= 1 and said[-1] == 1, task.step)


class StoreTest(unittest.TestCase):
    def test_folder_store_gives_back_what_memory_does(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            store = FolderStore(Path(folder))
            document = case(store, jaws(21)[1])
            first = evaluate(document, CASE, store, until="trim")
            again = evaluate(document, CASE, FolderStore(Path(folder)), until="trim")
            self.assertEqual((len(first.worked) > 0, again.worked), (True, set()))
            leftovers = list(Path(folder).rglob("tmp*"))
            self.assertEqual(leftovers, [])

    def test_looking_reads_no_mesh(self) -> None:
        store = MemoryStore()
        document = case(store, jaws(21)[1])
        evaluate(document, CASE, store, until="base")

        class Deaf:
            def read(self, digest: str) -> bytes:
                raise AssertionError("a mesh was read")

        store.blobs = Deaf()  # type: ignore[assignment]
        self.assertEqual(resolve(document, CASE, store, demanded=frozenset()).node("base", "p1").state, "done")
