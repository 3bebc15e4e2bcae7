"""The engine apart from cases and geometry: addresses, order, typed outputs, what is gathered, handed through, off, accepted."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import ValidationError

from bitecore.engine.document import Accepted, Layer, Seen, SheetDocument
from bitecore.engine.entries import in_order, next_id, numbered, points_of
from bitecore.engine.gives import (
    MESH,
    SOLIDS,
    ByPiece,
    Gives,
    Solid,
    Solids,
    by_piece,
    digests_in,
    json_of,
    packed_points,
    unpack,
    unpacked_points,
)
from bitecore.engine.graph import Graph, Node
from bitecore.engine.model import BODIES, JAWS, WHOLE, Fix, Flag, Inputs, Need, Step, StepResult, StepSettings, above, setting
from bitecore.engine.registry import Registry
from bitecore.engine.resolve import resolve
from bitecore.engine.sheet import Sheet
from bitecore.engine.store import MemoryStore
from bitecore.engine.task import perform
from bitecore.progress import QUIET, Run
from bitecore.runsheet import evaluate
from tests.shapes import box


class Count(StepSettings):
    by: int = setting(1, ge=0, le=9, label="By", help="How many.")
    on: bool = setting(True, label="On", help="At all.")


def step(name: str, needs: dict[str, Need], apply: Callable[..., Any], *, gives: dict[str, Gives] | None = None, **more: Any) -> Step:
    def done(inputs: Inputs, settings: Count, run: Run) -> StepResult:
        return StepResult(apply(inputs, settings))

    fields = {"title": name.title(), "number": 1, "version": 1, "over": JAWS, "settings": Count, **more}
    return Step(name=name, needs=needs, gives=gives or {"n": json_of(int)}, apply=done, **fields)


class Plain(Sheet[SheetDocument, Graph]):
    """Two roots, a and b; b has a part that begins at the step `late`."""

    name, module = "plain", __name__

    def begin(self, document: SheetDocument) -> Graph:
        return Graph()

    def addresses(self, step: Step, document: SheetDocument, graph: Graph) -> list[str]:
        if step.over.what == "whole":
            return ["*"]
        late = step.over.what == "bodies" and (step.name == "late" or step.name in self.registry.after(["late"]))
        return ["a", "b", *(["b.part-1"] if late else [])]

    def tag(self, node: Node, graph: Graph) -> dict[str, Any]:
        return {"piece": node.piece}

    def each(self, graph: Graph) -> list[str]:
        return ["a", "b"]

    def outside(self, need: Need, node: Node, document: SheetDocument, graph: Graph) -> Any:
        return {"json": 1}


FIRST = step("first", {"file": Need("source", "file")}, lambda i, s: {"n": i["file"] + s.by})


def worked(registry: Registry, document: SheetDocument | None = None, store: MemoryStore | None = None) -> tuple[Graph, set[str]]:
    sheet, store = Plain(registry), store or MemoryStore()
    done = evaluate(document or SheetDocument(), sheet, store)
    return done.graph, {n.id for n in done.graph.nodes.values() if n.task and n.task.key in done.worked}


class OrderTest(unittest.TestCase):
    def test_the_order_of_work_comes_from_the_needs(self) -> None:
        """The one with the smallest number needs the one with the largest."""
        early = step("early", {"n": Need("after", "n")}, lambda i, s: {"n": i["n"]}, number=1)
        after = step("after", {"n": Need("first", "n")}, lambda i, s: {"n": i["n"]}, number=9)
        registry = Registry([early, after, replace(FIRST, number=5)])
        self.assertEqual([s.name for s in registry.steps], ["first", "after", "early"])
        self.assertEqual([s.name for s in registry.shown], ["early", "first", "after"])
        self.assertEqual(registry.up_to("after"), {"first", "after"})
        self.assertEqual(registry.after(["first"]), {"after", "early"})

    def test_what_cannot_be_is_refused_when_the_registry_is_built(self) -> None:
        for need, words in (
            (Need("nobody", "n"), "not there"),
            (Need("first", "m"), "does not give it"),
            (Need("first", "size", setting=True), "none of that name"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                Registry([FIRST, step("second", {"n": need}, lambda i, s: {})])
        one = step("one", {"n": Need("two", "n")}, lambda i, s: {})
        two = step("two", {"n": Need("one", "n")}, lambda i, s: {})
        with self.assertRaisesRegex(ValueError, "circle: one, two"):
            Registry([one, two])
        with self.assertRaisesRegex(ValueError, "one name"):
            Registry([FIRST, FIRST])

    def test_an_output_or_a_fix_that_is_not_named_is_a_defect(self) -> None:
        wrong = replace(FIRST, apply=lambda i, s, r: StepResult({"m": 1}))
        fix = Fix("first", "*", {"by": 99})
        bad_fix = replace(FIRST, apply=lambda i, s, r: StepResult({"n": 1}, flags=(Flag("x", "look", "X.", fix=fix),)))
        for one, error in ((wrong, TypeError), (bad_fix, ValueError)):
            registry = Registry([one])
            node = resolve(SheetDocument(), Plain(registry), MemoryStore()).node("first", "a")
            assert node is not None and node.task is not None
            with self.assertRaises(error):
                perform(node.task, registry, MemoryStore().blobs, QUIET)


class AddressTest(unittest.TestCase):
    def test_an_address_falls_back_step_by_step(self) -> None:
        self.assertEqual(above("p1.die-16.copy-2"), ["p1.die-16.copy-2", "p1.die-16", "p1", "*"])
        self.assertEqual(above("*"), ["*"])

    def test_settings_fall_back_from_layer_to_layer_and_say_whose_they_are(self) -> None:
        layers = {
            "house": Layer(steps={"late": {"by": 2, "on": True}}),
            "purpose": Layer(steps={"late": {"by": 3}}),
            "practice": Layer(steps={"late": {"by": 4}}),
        }
        late = step("late", {"n": Need("first", "n")}, lambda i, s: {"n": s.by}, over=BODIES)
        document = SheetDocument(layers=layers)
        values = [document.settings_for(late).by]  # type: ignore[attr-defined]
        for address, by in (("*", 5), ("b", 6), ("b.part-1", 7)):
            document = document.model_copy(update={"settings": {"late": {**document.settings.get("late", {}), address: {"by": by}}}})
            values.append(document.settings_for(late, "b.part-1").by)  # type: ignore[attr-defined]
        self.assertEqual(values, [4, 5, 6, 7])
        self.assertEqual(document.settings_for(late, "a").by, 5)  # type: ignore[attr-defined]
        self.assertEqual(document.whose(late, "b.part-1"), {"by": "piece", "on": "house"})
        self.assertEqual(document.whose(late, "a"), {"by": "case", "on": "house"})
        graph, _ = worked(Registry([FIRST, late]), document)
        self.assertEqual({n.piece: n.json("n") for n in graph.of_step("late")}, {"a": 5, "b": 6, "b.part-1": 7})

    def test_a_part_takes_from_what_it_is_of_until_it_begins(self) -> None:
        late = step("late", {"n": Need("first", "n")}, lambda i, s: {"n": i["n"] * 10}, over=BODIES)
        last = step(
            "last", {"n": Need("late", "n"), "all": Need("late", "n", each=True)}, lambda i, s: {"n": i["n"] + len(i["all"])}, over=BODIES
        )
        graph, _ = worked(Registry([FIRST, late, last]), SheetDocument(settings={"late": {"b.part-1": {"by": 3}}}))
        self.assertEqual([n.piece for n in graph.of_step("first")], ["a", "b"])
        self.assertEqual({n.piece: n.json("n") for n in graph.of_step("last")}, {"a": 23, "b": 23, "b.part-1": 23})

    def test_the_key_covers_all_that_apply_gets(self) -> None:
        """Two nodes with the same inputs and settings, of different addresses: apply could tell them apart."""
        graph, _ = worked(Registry([FIRST]))
        keys = {n.task.key for n in graph.of_step("first") if n.task}
        self.assertEqual(len(keys), 2)


class GatherTest(unittest.TestCase):
    def registry(self, *givers: str) -> Registry:
        def give(inputs: Inputs, settings: Count) -> dict[str, Any]:
            return {"solids": Solids(Solid("add", box(), f"cube {k}") for k in range(settings.by))}

        base = step("base", {"file": Need("source", "file")}, lambda i, s: {"body": box()}, gives={"body": MESH})
        makers = [step(name, {"body": Need("base", "body")}, give, gives={"solids": SOLIDS}, off=lambda s: not s.on) for name in givers]
        taken = {"body": Need("base", "body"), "solids": Need(gathered=SOLIDS)}
        together = step(
            "together", taken, lambda i, s: {"body": box((len(i["solids"]), 1, 1))}, gives={"body": MESH}, through={"body": "body"}
        )
        return Registry([together, base, *makers])

    def test_nothing_gathered_is_no_work_and_no_second_copy(self) -> None:
        store = MemoryStore()
        graph, made = worked(self.registry(), store=store)
        self.assertEqual(made, {"base/a", "base/b"})
        node, base = graph.node("together", "a"), graph.node("base", "a")
        assert node is not None and base is not None and node.manifest is not None and base.manifest is not None
        self.assertEqual((node.state, node.mesh("body"), node.manifest.key), ("done", base.mesh("body"), base.manifest.key))
        self.assertEqual(len(store._manifests), 2)

    def test_every_step_that_gives_it_is_gathered_before(self) -> None:
        registry = self.registry("labels", "pins")
        self.assertEqual([s.name for s in registry.steps], ["base", "labels", "pins", "together"])
        graph, made = worked(registry)
        self.assertIn("together/a", made)
        node = graph.node("together", "a")
        assert node is not None and node.task is not None
        self.assertEqual(set(node.task.inputs["solids"]["from_each"]), {"labels", "pins"})

    def test_what_is_given_for_each_piece_is_gathered_for_its_own(self) -> None:
        """A step that runs once gives the solids of every body."""

        def give(inputs: Inputs, settings: Count) -> dict[str, Any]:
            return {"solids": ByPiece({"a": Solids([Solid("add", box((2, 2, 2)), "pin")])})}

        once = step("pins", {"body": Need("base", "body", each=True)}, give, gives={"solids": by_piece(SOLIDS)}, over=WHOLE)
        graph, made = worked(self.registry().with_step(once))
        self.assertEqual(made & {"together/a", "together/b"}, {"together/a"})
        node = graph.node("together", "a")
        assert node is not None and node.task is not None
        self.assertEqual([s["name"] for s in node.task.inputs["solids"]["from_each"]["pins"]["solids"]], ["pin"])

    def test_one_that_is_off_or_gives_none_is_not_there(self) -> None:
        registry = self.registry("labels", "pins")
        off = SheetDocument(settings={"labels": {"*": {"on": False}}, "pins": {"a": {"by": 0}}})
        graph, made = worked(registry, off)
        self.assertEqual([n.state for n in graph.of_step("labels")], ["off", "off"])
        self.assertEqual((("together/a" in made), ("together/b" in made)), (False, True))

    def test_an_optional_need_of_what_is_off_is_none(self) -> None:
        maker = step("maker", {"n": Need("first", "n")}, lambda i, s: {"n": 7}, off=lambda s: not s.on)
        user = step("user", {"n": Need("maker", "n", optional=True)}, lambda i, s: {"n": -1 if i["n"] is None else i["n"]})
        for on, seen in ((True, 7), (False, -1)):
            graph, _ = worked(Registry([FIRST, maker, user]), SheetDocument(settings={"maker": {"*": {"on": on}}}))
            node = graph.node("user", "a")
            self.assertEqual(node and node.json("n"), seen)

    def test_a_setting_of_another_step_can_be_read(self) -> None:
        reader = step("reader", {"by": Need("other", "by", setting=True), "n": Need("first", "n")}, lambda i, s: {"n": i["by"] * 100})
        # What it reads may even come after it: a setting waits for nothing.
        other = step("other", {"n": Need("reader", "n")}, lambda i, s: {"n": i["n"] + s.by})
        graph, _ = worked(Registry([FIRST, reader, other]), SheetDocument(settings={"other": {"a": {"by": 5}}}))
        self.assertEqual({n.piece: n.json("n") for n in graph.of_step("other")}, {"a": 505, "b": 101})

    def test_a_setting_of_another_step_can_be_read_for_each(self) -> None:
        reader = step("reader", {"by": Need("first", "by", setting=True, each=True)}, lambda i, s: {"n": sum(i["by"].values())}, over=WHOLE)
        graph, _ = worked(Registry([FIRST, reader]), SheetDocument(settings={"first": {"a": {"by": 5}}}))
        self.assertEqual(graph.node("reader").json("n"), 6)


class IncrementTest(unittest.TestCase):
    def test_only_what_needs_a_new_result_is_looked_up_anew(self) -> None:
        second = step("second", {"n": Need("first", "n")}, lambda i, s: {"n": i["n"]})
        aside = step("aside", {"file": Need("source", "file")}, lambda i, s: {"n": 0})
        sheet, store, document = Plain(Registry([FIRST, second, aside])), MemoryStore(), SheetDocument()
        evaluate(document, sheet, store)
        graph = resolve(document, sheet, store)
        before = dict(graph.nodes)
        graph = resolve(document, sheet, store, before=graph, ended={"first"})
        same = {key for key, node in graph.nodes.items() if node is before[key]}
        self.assertEqual(same, {"aside/a", "aside/b"})
        self.assertEqual(list(graph.nodes), list(before))

    def test_it_comes_to_the_same_as_looking_at_all(self) -> None:
        steps = [FIRST]
        for k in range(6):
            steps.append(step(f"s{k}", {"n": Need(steps[-1].name, "n")}, lambda i, s: {"n": i["n"] + s.by}, number=k + 2))
        total = step("total", {"n": Need("s5", "n", each=True)}, lambda i, s: {"n": sum(i["n"].values())}, over=WHOLE, number=9)
        sheet, store = Plain(Registry([*steps, total])), MemoryStore()
        done = evaluate(SheetDocument(), sheet, store).graph
        fresh = resolve(SheetDocument(), sheet, store)
        self.assertEqual(
            {k: (n.state, n.json("n")) for k, n in done.nodes.items()}, {k: (n.state, n.json("n")) for k, n in fresh.nodes.items()}
        )
        node = fresh.node("total")
        self.assertEqual(node and node.json("n"), 2 * (1 + 1 + 6))


class AcceptedTest(unittest.TestCase):
    def accepted(self, graph: Graph, name: str) -> dict[str, Accepted]:
        nodes = [n for n in graph.of_step(name) if n.manifest is not None]
        seen = {
            n.id: Seen(version=n.step.version, key=n.manifest.key, digest=n.seen_digest(), origin=n.origin)
            for n in nodes
            if n.manifest is not None
        }
        return {name: Accepted(seen=seen)}

    def test_what_was_accepted_stays_under_a_newer_version_until_an_input_or_a_setting_changes(self) -> None:
        store, document = MemoryStore(), SheetDocument()
        old = Registry([FIRST, step("second", {"n": Need("first", "n")}, lambda i, s: {"n": i["n"]})])
        graph, _ = worked(old, document, store)
        kept = document.model_copy(update={"accepted": self.accepted(graph, "second")})
        newer = Registry([FIRST, step("second", {"n": Need("first", "n")}, lambda i, s: {"n": i["n"] + 1000}, version=2)])
        graph, made = worked(newer, kept, store)
        node = graph.node("second", "a")
        assert node is not None
        self.assertEqual((made, node.json("n"), node.kept), (set(), 2, 1))
        # Asked for: the acceptance is taken back.
        graph, made = worked(newer, document, store)
        self.assertEqual({n.json("n") for n in graph.of_step("second")}, {1002})
        for settings in ({"first": {"*": {"by": 3}}}, {"second": {"*": {"by": 2}}}):
            graph, made = worked(newer, kept.model_copy(update={"settings": settings}), store)
            self.assertIn("second/a", {n.id for n in graph.of_step("second") if n.kept is None})
            self.assertGreater(min(n.json("n") for n in graph.of_step("second")), 1000)


class ValuesTest(unittest.TestCase):
    def test_types_are_checked(self) -> None:
        json_of(dict[str, int]).check({"a": 1})
        by_piece(MESH).check(ByPiece({"p1": box()}))
        MESH.check(box())
        for gives, value in (
            (json_of(int), "x"), (MESH, 1), (by_piece(MESH), {"p1": box()}), (by_piece(json_of(int)), ByPiece({"p1": "x"})), (SOLIDS, [])
        ):  # fmt: skip
            with self.assertRaises((TypeError, ValidationError)):
                gives.check(value)

    def test_points_are_kept_to_the_micrometre(self) -> None:
        points = np.random.default_rng(1).uniform(-80, 80, (60, 3))
        data = packed_points(points)
        self.assertEqual(len(data), 60 * 12)
        np.testing.assert_allclose(unpacked_points(data), points, atol=0.5001e-3)
        for broken in (b"", b"123", data[:-1]):
            with self.assertRaises(ValueError):
                unpacked_points(broken)
        inputs = Inputs({}, points={"d" * 64: unpacked_points(data)})
        self.assertEqual(points_of({"points": "d" * 64, "count": 60}, inputs).shape, (60, 3))
        self.assertEqual(points_of(((1.0, 2.0, 3.0),), inputs).tolist(), [[1, 2, 3]])
        with self.assertRaises(ValueError):
            points_of({"points": "e" * 64, "count": 60}, inputs)

    def test_entries_are_in_the_order_in_which_they_were_made(self) -> None:
        self.assertEqual(in_order({"s10": 3, "s2": 2, "s1": 1}), [1, 2, 3])
        self.assertEqual((next_id("s", {"s2": 0, "s10": 0}), next_id("s", {})), ("s11", "s1"))
        self.assertEqual((numbered("m", ["x", "y"]), numbered("m", {"m7": "x"})), ({"m1": "x", "m2": "y"}, {"m7": "x"}))

    def test_every_blob_a_value_names_is_found(self) -> None:
        a, b, c, d = (letter * 64 for letter in "abcd")
        values = {
            "m": {"by_piece": {"p1": {"mesh": a}, "p2": None}}, "f": {"files": [{"file": b, "name": "x"}]},
            "s": {"solids": [{"op": "add", "mesh": c}]}, "j": {"json": {"mesh": "0" * 64}},
            "t": {"swab": {"s1": {"points_mm": {"points": d}}}},
        }  # fmt: skip
        self.assertEqual(set(digests_in(values)), {a, b, c, d})

    def test_solids_come_back_as_they_went(self) -> None:
        store = MemoryStore()
        from bitecore.engine.gives import pack

        there = unpack(pack(Solids([Solid("cut", box(), "drain")]), store.blobs), store.blobs)
        self.assertEqual([(s.op, s.name, s.mesh.digest) for s in there], [("cut", "drain", box().digest)])
        self.assertIsNone(unpack(None, store.blobs))
