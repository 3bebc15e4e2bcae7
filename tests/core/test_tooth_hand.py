"""What a person says of teeth holds; margins are closed lines on the surface; and the files that tell of teeth."""

from __future__ import annotations

import json
import unittest
from functools import cache
from typing import Any

import numpy as np
from django.test import tag
from scipy.spatial import cKDTree

from bitecore.anatomy.occlusal import OcclusalFrame, by_teeth
from bitecore.anatomy.teeth.numbers import numbers_at, numbers_of_faces
from bitecore.anatomy.teeth.sizes import SLOTS, WIDE, fdi_of, slot_of
from bitecore.engine.gives import Files
from bitecore.errors import BadSetting
from bitecore.files import ply
from bitecore.mesh import Mesh
from bitecore.ops.closest import ClosestPoints
from bitecore.ops.rims import rims
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, StepResult, standard
from demo import teeth as book
from demo.arch import Jaw, pair
from tests.shapes import sheet, sphere
from tests.trial import intake


@cache
def lower() -> Jaw:
    return pair(intake.plan(4, grid_mm=0.5)).lower


@cache
def clean() -> Mesh:
    asked = standard()["trim"].check({})
    keys = ("folds", "spikes", "holes_mm", "loose_percent")
    values = {"mesh": lower().mesh.as_scan(), "about": {}, "crossing": None} | {k: getattr(asked, k) for k in keys}
    return standard()["clean"].apply(Inputs(values, "p", "lower"), standard()["clean"].check({}), QUIET).values["mesh"]


def told(chart: str = "", **settings: Any) -> StepResult:
    about = {"up": lower().up().tolist(), "front": [0, -1, 0], "incisal": [0.0, 0.0, 0.0]}
    step = standard()["teeth"]
    return step.apply(Inputs({"mesh": clean(), "about": about, "chart": chart, "tint": Files()}, "p", "lower"), step.check(settings), QUIET)


def of(result: StepResult, fdi: int) -> dict:
    return next(t for t in result.values["teeth"] if t["fdi"] == fdi)


def numbers(result: StepResult) -> list[int]:
    return [t["fdi"] for t in result.values["teeth"]]


def margins(result: StepResult) -> list[dict]:
    files = result.values["margins"]
    assert isinstance(files, Files)
    return json.loads(files[0].data)


class RimTest(unittest.TestCase):
    def test_a_cap_of_a_sphere_has_the_rim_of_its_circle(self) -> None:
        """Length 2 π √(R² − h²) of the circle that a plane at height h cuts from a sphere."""
        ball = sphere(10.0, 80)
        (rim,) = rims(ball, ball.vertices_mm[:, 2] - 6.0)
        np.testing.assert_allclose(rim.points_mm[:, 2], 6.0, atol=1e-9)
        self.assertAlmostEqual(rim.length_mm / (2 * np.pi * 8.0), 1.0, delta=0.002)
        # The region lies on the left: seen from outside it runs counter-clockwise round the pole.
        a, b = rim.points_mm[:, :2], np.roll(rim.points_mm[:, :2], -1, axis=0)
        self.assertGreater((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum(), 0)

    def test_at_a_border_it_runs_along_it(self) -> None:
        flat = sheet(41, 41, lambda x, y: 0 * x, (20.0, 20.0))
        (rim,) = rims(flat, flat.vertices_mm[:, 0] - 4.13)
        self.assertAlmostEqual(rim.length_mm, 2 * (20.0 + 10.0 - 4.13), places=6)

    def test_two_regions_have_two(self) -> None:
        ball = sphere(10.0, 60)
        self.assertEqual(len(rims(ball, np.abs(ball.vertices_mm[:, 2]) - 5.0)), 2)


class SizesTest(unittest.TestCase):
    def test_numbers_and_slots(self) -> None:
        for jaw in ("upper", "lower"):
            for slot in range(len(SLOTS)):
                self.assertEqual(slot_of(fdi_of(slot, jaw)), (slot, False))
        self.assertEqual([slot_of(n) for n in (55, 61, 71, 85)], [(3, True), (8, True), (8, True), (3, True)])
        self.assertEqual(fdi_of(3, "lower", milk=True), 85)


class TeethStepTest(unittest.TestCase):
    def test_widths_beside_the_table_the_mouth_was_made_by(self) -> None:
        """Within a tenth of Wheeler's averages (from memory), from which the generator differs by less than that itself."""
        for tooth in told().values["teeth"]:
            made = book.LOWER[tooth["fdi"] % 10 - 1][0]
            self.assertAlmostEqual(tooth["mesiodistal_mm"] / made, 1.0, delta=0.13, msg=str(tooth["fdi"]))
            self.assertAlmostEqual(WIDE["lower"][tooth["fdi"] % 10 - 1], made, delta=0.3)

    def test_every_margin_is_closed_on_the_surface_in_steps_of_half_a_millimetre(self) -> None:
        result = told()
        tree = ClosestPoints(clean())
        for tooth in margins(result):
            points, sure = np.array(tooth["margin_mm"]), np.array(tooth["margin_confidence"])
            step = np.linalg.norm(points - np.roll(points, -1, axis=0), axis=1)
            self.assertLessEqual(step.max(), 0.5 + 1e-6)
            self.assertGreater(np.linalg.norm(points[0] - points[1]), 0)
            self.assertTrue(((sure >= 0) & (sure <= 1)).all())
            on = np.abs(tree.signed(points[sure > 0.06], within_mm=2.0)[0])
            self.assertLess(np.quantile(on, 0.97), 0.001, tooth["fdi"])

    def test_the_tips_are_those_of_the_generator(self) -> None:
        true = lower().tips_mm()
        for tooth in told().values["teeth"]:
            near = np.linalg.norm(np.array(tooth["tips_mm"])[:, None] - true[tooth["fdi"]][None], axis=2).min()
            self.assertLess(near, 1.2, tooth["fdi"])

    def test_a_number_said_by_hand_numbers_the_others_too(self) -> None:
        before = told()
        at = of(before, 36)["centre_mm"]
        after = told(said={"t1": {"kind": "number", "at": at, "fdi": 37}})
        self.assertTrue(of(after, 37)["by_hand"])
        self.assertLess(np.linalg.norm(np.array(of(after, 37)["centre_mm"]) - at), 1.0)
        self.assertEqual([n for n in numbers(after) if n // 10 == 4], [n for n in numbers(before) if n // 10 == 4])
        self.assertNotIn("teeth-unheeded", [f.code for f in after.flags])

    def test_a_stroke_that_jumps_down_a_hidden_flank_covers_it(self) -> None:
        """Seen from above the side of a crown is not hit; what lies between two places of a stroke is under it all the same."""
        tooth = of(told(), 46)
        top = np.array(tooth["tips_mm"][0])
        side = np.array([np.sign(top[0]), 0, 0])
        low = clean().vertices_mm[np.linalg.norm(clean().vertices_mm - (top + 3.5 * side - [0, 0, 10.0]), axis=1).argmin()]
        result = told(swab={"s1": {"points_mm": [top.tolist(), low.tolist()], "radius_mm": 1.0, "adds": True}})
        at = np.linalg.norm(clean().vertices_mm - low, axis=1).argmin()
        self.assertEqual(int(np.nan_to_num(result.values["mesh"].channel.values)[at]), 46)

    def test_joined_parted_and_none(self) -> None:
        before = told()
        a, b = of(before, 34)["tips_mm"][0], of(before, 35)["tips_mm"][0]
        joined = told(said={"t1": {"kind": "together", "at": a, "also": b}})
        on = numbers_at(joined.values["mesh"], np.array([a, b]))
        self.assertEqual(on[0], on[1])
        again = told(said={"t1": {"kind": "together", "at": a, "also": b}, "t2": {"kind": "apart", "at": a, "also": b}})
        self.assertEqual([f.code for f in again.flags].count("teeth-unheeded"), 1)  # both cannot be
        self.assertEqual(numbers(again), numbers(before))
        gone = told(said={"t1": {"kind": "none", "at": of(before, 37)["centre_mm"]}})
        self.assertEqual(numbers(gone), [n for n in numbers(before) if n != 37])

    def test_a_stroke_gives_gum_to_a_tooth_and_takes_it_back(self) -> None:
        before = told()
        tooth = of(before, 36)
        tip, centre = np.array(tooth["tips_mm"][0]), np.array(tooth["centre_mm"])
        line = np.array(margins(before)[numbers(before).index(36)]["margin_mm"])
        cheek = line[((line - centre) @ ((tip - centre) * [1, 1, 0])).argmax()]
        down = cheek - [0, 0, 1.6]
        foot = clean().vertices_mm[np.linalg.norm(clean().vertices_mm - down, axis=1).argmin()]
        self.assertEqual(numbers_at(before.values["mesh"], foot[None]), [None])
        stroke = {"points_mm": [(cheek + [0, 0, 0.8]).tolist(), cheek.tolist(), foot.tolist()], "radius_mm": 0.8}
        more = told(swab={"s1": stroke})
        self.assertEqual(numbers_at(more.values["mesh"], foot[None]), [36])
        back = told(swab={"s1": stroke, "s2": {**stroke, "points_mm": [foot.tolist()], "radius_mm": 1.6, "adds": False}})
        self.assertEqual(numbers_at(back.values["mesh"], foot[None]), [None])
        self.assertEqual(numbers(back), numbers(before))

    def test_what_lies_nowhere_any_more_is_named(self) -> None:
        far = told(said={"t1": {"kind": "number", "at": [0, 0, 90.0], "fdi": 36}}, swab={"s1": {"points_mm": [[0, 0, 80]], "radius_mm": 1}})
        said = [f.message for f in far.flags if f.code == "teeth-unheeded"]
        self.assertEqual(len(said), 2)
        self.assertIn("the number 36", said[0])

    def moved_line(self, fdi: int, down_mm: float, *, all_round: bool = False) -> np.ndarray:
        """Along the margin on the cheek's side (or all of it), so far towards the gum, on the surface."""
        margin = next(m for m in margins(told()) if m["fdi"] == fdi)
        points, side = np.array(margin["margin_mm"]), np.array(margin["centre_mm"])
        points = np.roll(points, -int(np.abs(points[:, 0]).argmin()), axis=0)
        line = points if all_round else points[np.abs(points[:, 0]) > abs(side[0]) + 2.0]
        return ClosestPoints(clean()).query(line - [0, 0, down_mm]).point_mm

    def margin(self, fdi: int, *lines: np.ndarray) -> np.ndarray:
        swab = {f"s{k}": {"points_mm": line.tolist(), "radius_mm": 0.3, "line": True} for k, line in enumerate(lines, 1)}
        result = told(swab=swab)
        self.assertNotIn("teeth-unheeded", [f.code for f in result.flags])
        return np.array(next(m for m in margins(result) if m["fdi"] == fdi)["margin_mm"])

    def test_a_margin_that_is_drawn_runs_there_and_elsewhere_as_it_did(self) -> None:
        before = self.margin(36)
        for down in (0.8, -0.9):
            line = self.moved_line(36, down)
            after = self.margin(36, line)
            inner = line[len(line) // 5 : -len(line) // 5]
            self.assertGreater(np.median(cKDTree(before).query(inner)[0]), 0.4, down)
            self.assertLess(cKDTree(after).query(inner)[0].max(), 0.3, down)
            away = after[cKDTree(line).query(after)[0] > 2.5]
            self.assertLess(cKDTree(before).query(away)[0].max(), 0.25, down)

    def test_drawn_all_round_and_drawn_again(self) -> None:
        low, high = (self.moved_line(36, down, all_round=True) for down in (0.6, -0.9))
        free = [line[(np.abs(line[:, 1] - line[:, 1].mean()) < 3.5)] for line in (low, high)]  # not where teeth meet
        self.assertLess(np.quantile(cKDTree(self.margin(36, low)).query(free[0])[0], 0.95), 0.3)
        self.assertLess(np.quantile(cKDTree(self.margin(36, low, high)).query(free[1])[0], 0.95), 0.3)

    def test_a_line_along_no_tooth_is_named(self) -> None:
        low = clean().vertices_mm[clean().vertices_mm[:, 2].argsort()[:200]]
        line = low[np.linalg.norm(low - low[0], axis=1).argsort()[:40:8]]
        for points in (line, line[:1]):
            result = told(swab={"s1": {"points_mm": points.tolist(), "radius_mm": 0.3, "line": True}})
            (flag,) = [f for f in result.flags if f.code == "teeth-unheeded"]
            self.assertIn("a margin that was drawn", flag.message)
            self.assertEqual(numbers(result), numbers(told()))

    def test_the_chart_is_compared(self) -> None:
        self.assertNotIn("chart-differs", [f.code for f in told("36 16").flags])
        (flag,) = [f for f in told("36 38 48").flags if f.code == "chart-differs"]
        self.assertEqual(flag.message, "48, 38 are on the case’s chart; no such teeth are found." if "48, 38" in flag.message else
                         "38, 48 are on the case’s chart; no such teeth are found.")  # fmt: skip

    def test_bad_words_are_refused_in_words(self) -> None:
        check = standard()["teeth"].check
        with self.assertRaisesRegex(BadSetting, "no tooth of ISO 3950"):
            check({"said": {"t1": {"kind": "number", "at": [0, 0, 0], "fdi": 19}}})
        with self.assertRaisesRegex(BadSetting, "two places"):
            check({"said": {"t1": {"kind": "together", "at": [0, 0, 0]}}})

    def test_nothing_that_is_an_arch_has_no_teeth(self) -> None:
        step = standard()["teeth"]
        about = {"up": [0, 0, 1], "front": [0, -1, 0], "incisal": None}
        for mesh in (sphere(8.0, 30), sheet(30, 30, lambda x, y: 0 * x, (30.0, 30.0))):
            result = step.apply(Inputs({"mesh": mesh, "about": about, "chart": "", "tint": Files()}, "p", "lower"), step.check({}), QUIET)
            self.assertEqual(result.values["teeth"], [])
            self.assertEqual([f.code for f in result.flags], ["no-teeth"])


class LabelledTest(unittest.TestCase):
    @tag("long")
    def test_the_labelled_surface_is_read_back_by_another_library(self) -> None:
        """trimesh reads faces of a PLY with further properties."""
        import trimesh

        result = told()
        mesh = result.values["mesh"]
        labels = numbers_of_faces(mesh)
        self.assertEqual(set(np.unique(labels[labels > 0]).tolist()), set(numbers(result)))
        data = ply.write(mesh, labels=("fdi", labels))
        self.assertIn(b"property short fdi", data[:400])
        read = trimesh.load(trimesh.util.wrap_as_stream(data), file_type="ply", process=False)
        np.testing.assert_array_equal(read.faces, mesh.faces)
        kept = read.metadata["_ply_raw"]["face"]["data"]["fdi"]
        np.testing.assert_array_equal(np.asarray(kept).ravel(), labels)


class PlaneTest(unittest.TestCase):
    def test_exact_tips_bring_the_plane_half_the_way(self) -> None:
        """Tips that lie exactly in one plane; the plane by the shape alone is 2° off: between the two it is 1° off."""
        off = np.radians(2.0)
        frame = OcclusalFrame(np.zeros(3), np.array([0, np.sin(off), np.cos(off)]), np.array([0, -1.0, 0]), np.zeros((3, 3)), 0.0)
        tips = {31: [[0.0, 0, 0]], 36: [[22.0, 24, 0], [23.0, 29, 0]], 46: [[-22.0, 24, 0], [-23.0, 29, 0]]}
        found = by_teeth(frame, {n: np.array(t) for n, t in tips.items()})
        self.assertAlmostEqual(np.degrees(np.arccos(found.up[2])), 1.0, places=6)
        self.assertIs(by_teeth(frame, {36: np.array([[22.0, 24, 0]])}), frame)
