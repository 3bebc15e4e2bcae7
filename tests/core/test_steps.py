"""What each step does with its settings, by itself."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from bitecore.anatomy.average import BACK_MM, UP_MM
from bitecore.anatomy.facing import as_they_came
from bitecore.anatomy.jaw import Jaw
from bitecore.errors import BadSetting, StepFailed
from bitecore.files import stl
from bitecore.mesh import Mesh, face_components, used_vertices
from bitecore.ops.rigid import angle_deg, placed, turned
from bitecore.parts.shelf import BUILT_IN
from bitecore.progress import QUIET
from bitecore.runsheet import Inputs, StepResult, standard
from tests.core.test_mesh import joined
from tests.shapes import box, jaws, turn

UPPER = {"origin": [0, 0, 0], "up": [0, 0, -1], "front": [0, -1, 0]}
LOWER = {"origin": [0, 0, 0], "up": [0, 0, 1], "front": [0, -1, 0]}


def do(step: str, values: dict[str, Any], jaws_: dict[str, str] | None = None, **settings: Any) -> StepResult:
    found = standard()[step]
    jaw = next(iter((jaws_ or {"p": "lower"}).values()))
    missing = {name: {} if need.each else None for name, need in found.needs.items() if need.optional}
    return found.apply(Inputs(missing | values, "p", jaw, jaws_ or {"p": "lower"}), found.check(settings), QUIET)


def codes(result: StepResult) -> list[str]:
    return [f.code for f in result.flags]


def reading(result: StepResult, name: str) -> Any:
    return next(r.value for r in result.readings if r.name == name)


class IntakeTest(unittest.TestCase):
    def intake(self, mesh: Mesh, **settings: Any) -> StepResult:
        return do("intake", {"file": stl.write_binary(mesh)}, **settings)

    def test_findings_are_counted_and_placed(self) -> None:
        scan = jaws(21)[1]
        result = self.intake(scan)
        self.assertEqual(reading(result, "triangles"), scan.triangles)
        # The generator leaves seven, and its holes sometimes cut one more free.
        self.assertEqual(reading(result, "loose bits"), face_components(scan)[0] - 1)
        holes = [f for f in result.flags if f.code == "hole"]
        self.assertGreater(len(holes), 0)
        for flag in holes:
            near = np.linalg.norm(scan.vertices_mm - np.array(flag.place.point_mm), axis=1).min()  # type: ignore[union-attr]
            self.assertLess(near, 4.0)

    def test_inside_out_by_itself_and_by_choice(self) -> None:
        scan = jaws(21)[1]
        self.assertFalse(self.intake(scan).values["about"]["turned_inside_out"])
        self.assertTrue(self.intake(scan.turned_inside_out()).values["about"]["turned_inside_out"])
        self.assertTrue(self.intake(scan, inside="turn").values["about"]["turned_inside_out"])
        self.assertFalse(self.intake(scan.turned_inside_out(), inside="keep").values["about"]["turned_inside_out"])

    def test_unit_by_size_and_by_choice(self) -> None:
        scan = jaws(21)[1]
        inches = Mesh.of(scan.vertices_mm / 25.4, scan.faces)
        found = self.intake(inches)
        self.assertEqual(found.values["about"]["unit"], "inch")
        self.assertIn("unit", codes(found))
        np.testing.assert_allclose(np.ptp(found.values["mesh"].vertices_mm, axis=0), np.ptp(scan.vertices_mm, axis=0), rtol=1e-5)
        self.assertEqual(self.intake(scan, unit="cm").values["about"]["unit_mm"], 10.0)

    def test_what_was_left_out_is_told(self) -> None:
        data = bytearray(stl.write_binary(jaws(21)[1]))
        data[84 + 12 : 84 + 16] = np.array([np.nan], "<f4").tobytes()
        data[84 + 50 + 12 : 84 + 50 + 24] = data[84 + 50 + 24 : 84 + 50 + 36]
        result = do("intake", {"file": bytes(data)})
        self.assertIn("dropped-triangles", codes(result))
        self.assertEqual(reading(result, "triangles left out"), 2)

    def test_a_choice_stands_and_is_sure(self) -> None:
        about = self.intake(jaws(21)[1], jaw="upper", kind="jaw").values["about"]
        self.assertEqual((about["jaw"], about["confidence"]), ("upper", 1.0))
        self.assertEqual(self.intake(jaws(21)[1], kind="before").values["about"]["jaw"], None)


_ABOUT: dict[str, Any] = {
    "u": {"jaw": "upper", "up": [0, 0, -1], "front": [0, -1, 0], "incisal": [0, -3, -2]},
    "l": {"jaw": "lower", "up": [0, 0, 1], "front": [0, -1, 0], "incisal": [0, 0, 0]},
}

# What no bite scan and no earlier pair says.
_NO_SCANS: dict[str, Any] = {"relation": None, "named": None, "scans": [], "lent": None, "stale": 0}


class BiteTest(unittest.TestCase):
    def bite(self, shift: Any, *, lower: Mesh | None = None, spikes: bool = False, **settings: Any) -> StepResult:
        """shift : (3,) mm, or (4, 4), by which the lower is moved."""
        upper, low = jaws(3)[0], lower or jaws(3)[1]
        m = np.asarray(shift, float) if np.ndim(shift) == 2 else placed(np.eye(3), shift)
        about = {**_ABOUT, "l": {**_ABOUT["l"], "up": m[:3, 2].tolist(), "front": (-m[:3, 1]).tolist(), "incisal": m[:3, 3].tolist()}}
        values = {"mesh": {"u": upper, "l": low.moved(m)}, "about": about, **_NO_SCANS}
        values |= {"folds": {"u": False, "l": False}, "spikes": {"u": False, "l": spikes}}
        return do("bite", values, {"u": "upper", "l": "lower"}, **settings)

    def test_a_good_relation_is_kept_and_said(self) -> None:
        result = self.bite((0, 0, 0))
        self.assertEqual(codes(result), ["kept-relation"])
        self.assertEqual(result.values["home_to_bite"]["l"], np.eye(4).tolist())

    def test_too_hard_shows_where(self) -> None:
        result = self.bite((0, 0, 0.6), source="as they came")
        self.assertIn("too-hard", codes(result))
        flag = next(f for f in result.flags if f.code == "too-hard")
        self.assertEqual((flag.severity, flag.place.piece), ("look", "l"))  # type: ignore[union-attr]
        self.assertNotIn("too-hard", codes(self.bite((0, 0, 0.6), source="as they came", hard_mm=1.0)))

    def test_open_is_said_with_its_gap(self) -> None:
        result = self.bite((0, 0, -5.0), source="as they came")
        self.assertIn("open-bite", codes(result))
        self.assertGreater(reading(result, "smallest gap"), 1.0)
        self.assertLess(reading(result, "smallest gap"), 5.2)

    def test_closed_it_touches_and_eased_nothing_is_deeper_than_allowed(self) -> None:
        result = self.bite((0, 0, -5.0), source="as they came", close=True)
        self.assertLess(reading(result, "smallest gap") + reading(result, "deepest overlap"), 0.001)
        self.assertIn("closed", codes(result))
        result = self.bite((0, 0, 0.4), source="as they came", ease=True, ease_mm=0.05)
        self.assertLessEqual(reading(result, "deepest overlap"), 0.052)
        self.assertGreater(reading(result, "deepest overlap"), 0.03)
        self.assertLess(reading(result, "eased by at most"), 0.6)
        self.assertNotIn("too-hard", codes(result))

    def test_without_a_relation_a_nudge_starts_from_the_level_of_each(self) -> None:
        """The lower came elsewhere: nothing is related until a person nudges; then planes and midlines lie on each other."""
        upper, lower = jaws(3)
        m = turn(8)
        about = {
            "u": {"jaw": "upper", "up": [0, 0, -1], "front": [0, -1, 0]},
            "l": {"jaw": "lower", "up": m[:3, 2].tolist(), "front": (-m[:3, 1]).tolist()},
        }
        values = {"mesh": {"u": upper, "l": lower.moved(m)}, "about": about, **_NO_SCANS}
        values |= {"folds": {"u": False, "l": False}, "spikes": {"u": False, "l": False}}
        pair = {"u": "upper", "l": "lower"}
        alone = do("bite", values, pair)
        self.assertEqual((alone.values["related"], alone.values["nudged_on"]), (False, "by hand"))
        start = np.array(do("bite", values, pair, source="by hand").values["home_to_bite"]["l"])
        off = start @ m - np.eye(4)  # in the generator's bench both stand in occlusion
        tips = np.array([[0, 0, 0], [25, 35, 0], [-25, 35, 0]])
        self.assertLess(np.linalg.norm(tips @ off[:3, :3].T + off[:3, 3], axis=1).max(), 6.0)
        nudged = do("bite", values, pair, up_mm=-2.0, nudged_on="by hand")
        self.assertEqual((nudged.values["related"], nudged.values["method"]), (True, "by hand"))
        self.assertIn("by-hand", codes(nudged))
        moved = np.array(nudged.values["home_to_bite"]["l"]) @ np.linalg.inv(start)
        np.testing.assert_allclose(moved[:3, 3], [0, 0, -2.0], atol=1e-6)

    def test_a_nudge_on_another_relation_does_not_count(self) -> None:
        """Made from the level of each jaw, it would spoil the relation in which the jaws came."""
        result = self.bite((0, 0, 0), up_mm=-2.0, nudged_on="by hand")
        self.assertEqual(result.values["home_to_bite"]["l"], np.eye(4).tolist())
        flag = next(f for f in result.flags if f.code == "nudge-left-out")
        taken = self.bite((0, 0, 0), up_mm=-2.0, **flag.fix.values)  # type: ignore[index]
        np.testing.assert_allclose(np.array(taken.values["home_to_bite"]["l"])[:3, 3], [0, 0, -2.0])

    def test_a_nudge_is_exact(self) -> None:
        result = self.bite((0, 0, 0), left_mm=0.37, back_mm=-0.21, up_mm=-1.0)
        np.testing.assert_allclose(np.array(result.values["home_to_bite"]["l"]), placed(np.eye(3), [0.37, -0.21, -1.0]), atol=1e-12)
        turned_ = np.array(self.bite((0, 0, -3.0), source="as they came", turn_deg=1.5).values["home_to_bite"]["l"])
        self.assertAlmostEqual(angle_deg(turned_[:3, :3]), 1.5, places=9)

    def test_raised_for_a_splint_the_incisors_part_as_said_and_the_axis_stays(self) -> None:
        """About the axis of the average triangle, 79.7 mm behind and 37.2 mm over the incisal point; farther back it opens less."""
        result = self.bite((0, 0, 0), raised_mm=4.0)
        matrix = np.array(result.values["home_to_bite"]["l"])
        incisal = Jaw.seen(jaws(3)[1], _ABOUT["l"]).incisal
        moved = matrix[:3, :3] @ incisal + matrix[:3, 3] - incisal
        self.assertAlmostEqual(moved[2], -4.0, places=6)
        self.assertAlmostEqual(moved[0], 0.0, places=9)
        axis = incisal + [0, BACK_MM, UP_MM]
        np.testing.assert_allclose(matrix[:3, :3] @ axis + matrix[:3, 3], axis, atol=1e-9)
        molar = incisal + [0, 40.0, 0]
        self.assertAlmostEqual((matrix[:3, :3] @ molar + matrix[:3, 3] - molar)[2], -4.0 * 39.7 / 79.7, delta=0.1)
        self.assertEqual(set(codes(result)) & {"open-bite", "raised"}, {"raised"})

    def test_no_bite_when_asked_for_none(self) -> None:
        result = self.bite((0, 0, 0), source="none")
        self.assertEqual((codes(result), result.values["home_to_bite"]["l"]), (["no-relation"], None))

    def test_jaws_that_face_each_other_as_no_mouth_closes_are_asked_about(self) -> None:
        """Open by some millimetres, deep in each other, open on one side, or beside each other: nothing is built on it."""
        eye = np.eye(4).tolist()
        for shift, why in (((0, 0, -3.0), "nothing touches"), ((0, 0, 0.9), "into each other"), ((6.0, 0, 0), "")):
            with self.subTest(shift=shift):
                result = self.bite(shift)
                self.assertEqual((result.values["related"], result.values["home_to_bite"]["l"]), (False, None))
                flag = next(f for f in result.flags if f.code == "doubtful-bite")
                self.assertEqual(flag.severity, "look")
                self.assertIn(why, flag.message)
                taken = self.bite(shift, **flag.fix.values)  # type: ignore[union-attr]
                self.assertEqual(taken.values["home_to_bite"]["l"], eye)

    def test_open_on_one_side_is_doubtful_too(self) -> None:
        rolled = Rotation.from_euler("y", -4.0, degrees=True).as_matrix()
        pivot = np.array([25.0, 30.0, 0.0])
        result = self.bite(placed(rolled, pivot - rolled @ pivot - [0, 0, 0.2]))
        self.assertIn("side stays", next(f for f in result.flags if f.code == "doubtful-bite").message)

    def test_a_spike_that_trim_takes_off_makes_no_bite_too_hard(self) -> None:
        """Nor doubtful: it is no tooth. While it stays on, what is printed is too hard."""
        upper, lower = jaws(3)
        meet = as_they_came(Jaw.seen(upper, _ABOUT["u"]), Jaw.seen(lower, _ABOUT["l"]))
        top = int(np.linalg.norm(lower.vertices_mm - meet.meet.closest_mm, axis=1).argmin())
        points = lower.vertices_mm.copy()
        points[top] += [0, 0, 1.6]
        spiky = Mesh.of(points, lower.faces)
        self.assertIn("too-hard", codes(self.bite(np.eye(4), lower=spiky)))
        off = self.bite(np.eye(4), lower=spiky, spikes=True)
        self.assertEqual(codes(off), ["kept-relation"])
        self.assertLess(reading(off, "deepest overlap"), 0.15)

    def test_far_apart_is_no_bite(self) -> None:
        result = self.bite((0, 0, -30.0))
        self.assertEqual((codes(result), result.values["home_to_bite"]["l"]), (["no-relation"], None))


def cleaned(scan: Mesh, **settings: Any) -> StepResult:
    """What Clean makes of it with these settings of Trim."""
    asked = standard()["trim"].check(settings)
    return do("clean", {"mesh": scan, "about": {}} | {k: getattr(asked, k) for k in ("folds", "spikes", "holes_mm", "loose_percent")})


def eased(values: dict[str, Any], ease_mm: float = 0.8) -> dict[str, Any]:
    """What Trim gets where nothing is done by hand and all that is sound stays."""
    none = dict.fromkeys(("touched", "told", "found", "margins", "stand"))
    edged = do("edge", {"mesh": values["mesh"], "ease_mm": ease_mm, **none}).values
    return {"came": values["came"], "mesh": edged["mesh"], "marked": None, "reduced": None}


class TrimTest(unittest.TestCase):
    def trim(self, jaw: str = "lower", **settings: Any) -> StepResult:
        whole = cleaned(jaws(3)[0 if jaw == "upper" else 1]).values
        return do("trim", {**eased(whole), "stand": UPPER if jaw == "upper" else LOWER}, {"p": jaw}, **settings)

    def test_saws_cut_where_they_are_set(self) -> None:
        for jaw, sign in (("lower", 1.0), ("upper", -1.0)):
            mesh = self.trim(jaw, bottom_mm=9.0, back_mm=30.0).values["mesh"]
            used = mesh.vertices_mm[used_vertices(mesh)]
            self.assertAlmostEqual((used[:, 2] * sign).min(), -9.0, places=6)
            self.assertAlmostEqual(used[:, 1].max(), 30.0, places=6)

    def test_saws_can_be_off(self) -> None:
        on, off = self.trim(bottom_mm=9.0), self.trim(bottom_mm=9.0, bottom_saw=False, back_saw=False)
        self.assertGreater(off.values["mesh"].triangles, on.values["mesh"].triangles)
        self.assertFalse(off.values["saws"]["bottom"]["on"])

    def test_the_automatic_saw_spares_teeth_and_palate(self) -> None:
        for jaw in ("lower", "upper"):
            self.assertGreaterEqual(reading(self.trim(jaw), "bottom saw below the occlusal plane"), 11.0)

    def test_a_saw_through_everything_is_refused_in_words(self) -> None:
        high = {**LOWER, "origin": [0, 0, 40]}
        with self.assertRaises(StepFailed) as caught:
            do("trim", {**eased(cleaned(jaws(3)[1]).values), "stand": high}, bottom_mm=2.0)
        self.assertIn("takes the whole scan away", caught.exception.message)

    def test_holes_left_open_offer_a_fix(self) -> None:
        result = cleaned(jaws(3)[1], holes_mm=0.5)
        flag = next(f for f in result.flags if f.code == "hole-open")
        self.assertEqual((flag.severity, flag.fix.step), ("look", "trim"))  # type: ignore[index]
        self.assertIn("hole-closed", codes(cleaned(jaws(3)[1], **flag.fix.values)))  # type: ignore[index]

    def test_easing_away_everything_is_refused(self) -> None:
        with self.assertRaises(StepFailed):
            eased({"mesh": joined(box((3, 3, 0.2))).of_faces(np.arange(10)), "came": 10}, ease_mm=5.0)


class LevelTest(unittest.TestCase):
    def lower(self, m: np.ndarray, **settings: Any) -> StepResult:
        about = {"l": {"up": m[:3, 2].tolist(), "front": (-m[:3, 1]).tolist()}}
        values = {"mesh": {"l": jaws(3)[1].moved(m)}, "about": about, "home_to_bite": {"l": np.eye(4).tolist()}, "method": None}
        values |= {"teeth": {}, "midline": {}}
        return do("level", values, {"l": "lower"}, **settings)

    def test_three_marks_make_the_plane_exactly(self) -> None:
        """The points come to lie at height nought, the front one at the origin, left and right square to the midline."""
        m = turn(6)
        points = {"front": [0.4, -0.6, 0.2], "left": [22.0, 30.0, 1.4], "right": [-23.0, 29.0, -0.5]}
        marks = {"on": "l"} | {k: (m[:3, :3] @ p + m[:3, 3]).tolist() for k, p in points.items()}
        result = self.lower(m, marks=marks)
        bench = np.array(result.values["home_to_bench"]["l"])
        at = {k: bench[:3, :3] @ np.array(marks[k]) + bench[:3, 3] for k in points}
        np.testing.assert_allclose(at["front"], 0, atol=1e-9)
        np.testing.assert_allclose([at["left"][2], at["right"][2]], 0, atol=1e-9)
        self.assertAlmostEqual(at["left"][1], at["right"][1], places=9)
        self.assertGreater(at["left"][0], 15)  # the patient's left is +x
        self.assertEqual(codes(result)[0], "levelled-by-marks")

    def test_marks_in_one_line_are_refused_and_those_of_another_scan_do_not_count(self) -> None:
        line = {"on": "l", "front": [0, 0, 0], "left": [5, 5, 0], "right": [10, 10, 0.1]}
        with self.assertRaises(StepFailed):
            self.lower(np.eye(4), marks=line)
        other = self.lower(np.eye(4), marks={**line, "on": "gone"})
        self.assertIn("stale-marks", codes(other))

    def test_hand_correction_keeps_both_jaws_together(self) -> None:
        upper, lower = jaws(3)
        values = {
            "mesh": {"u": upper, "l": lower},
            "about": {"u": {"up": [0, 0, -1], "front": [0, -1, 0]}, "l": {"up": [0, 0, 1], "front": [0, -1, 0]}},
            "home_to_bite": {"u": np.eye(4).tolist(), "l": np.eye(4).tolist()},
            "method": "as they came",
            "teeth": {},
            "midline": {},
        }
        for settings in ({}, {"tilt_deg": 4.0, "roll_deg": -2.5, "turn_deg": 10.0, "left_mm": 1.5}):
            bench = do("level", values, {"u": "upper", "l": "lower"}, **settings).values["home_to_bench"]
            np.testing.assert_allclose(bench["u"], bench["l"], atol=1e-12)
            rotation = np.array(bench["u"])[:3, :3]
            np.testing.assert_allclose(rotation @ rotation.T, np.eye(3), atol=1e-9)
            self.assertAlmostEqual(np.linalg.det(rotation), 1.0, places=9)

    def test_a_correction_tells_when_what_it_corrects_has_moved(self) -> None:
        """Beside it stands where the automatic part was; more than 1° or 0.5 mm is told (docs/decisions.md)."""
        auto = self.lower(np.eye(4)).values["auto"]
        for degrees, mm, told in ((0.0, 0.0, False), (0.8, 0.3, False), (1.2, 0.0, True), (0.0, 0.6, True)):
            step = placed(turned(tilt_deg=degrees, roll_deg=0, turn_deg=0), [0, mm, 0])
            was = {**auto, "matrix": (step @ np.array(auto["matrix"])).tolist()}
            found = self.lower(np.eye(4), roll_deg=2.0, auto=was)
            self.assertEqual("hand-moved" in codes(found), told, (degrees, mm))
            self.assertNotIn("hand-moved", codes(self.lower(np.eye(4), auto=was)), "nothing is corrected")
        flag = next(f for f in self.lower(np.eye(4), roll_deg=2.0, auto={**auto, "on": "gone"}).flags if f.code == "hand-moved")
        with self.assertRaises(BadSetting):
            self.lower(np.eye(4), roll_deg=2.0, auto={**auto, "matrix": [[0.0] * 4] * 4})
        again = self.lower(np.eye(4), roll_deg=2.0, **flag.fix.values)
        self.assertNotIn("hand-moved", codes(again))


class PlateTest(unittest.TestCase):
    def plate(self, sizes: list[tuple[float, float, float]], **settings: Any) -> StepResult:
        names = list("ulabc")[: len(sizes)]
        values = {"body": {n: box(s) for n, s in zip(names, sizes, strict=True)}, "stand": dict.fromkeys(names, LOWER)}
        shelf = BUILT_IN["printer"][settings.get("printer", "wren")]
        values["printer"] = {"id": "", "name": shelf.name, "data": shelf.data}
        values["resin"] = {"id": "", "name": "Plaster grey", "data": BUILT_IN["resin"]["plaster"].data | settings.pop("stuff", {})}
        return do("plate", values, dict(zip(names, ("upper", "lower", "lower", "lower", "lower"), strict=False)), **settings)

    def places(self, result: StepResult, sizes: list[tuple[float, float, float]]) -> list[tuple[np.ndarray, np.ndarray]]:
        out = []
        for name, size in zip("ulabc", sizes, strict=False):
            p = box(size).moved(result.values["home_to_plate"][name]).vertices_mm
            out.append((p.min(0), p.max(0)))
        return out

    def test_side_by_side_with_the_gap_asked_for_and_centred(self) -> None:
        sizes = [(60.0, 50.0, 20.0), (55.0, 45.0, 18.0)]
        result = self.plate(sizes, gap_mm=5.0)
        (a, b), (c, d) = self.places(result, sizes)
        self.assertAlmostEqual(c[0] - b[0], 5.0, places=6)
        self.assertAlmostEqual(a[0], 144 - d[0], places=6)
        self.assertEqual(codes(result), ["on-plate"])

    def test_layers_that_the_printer_does_not_print_are_refused_and_the_fix_takes_the_nearest(self) -> None:
        result = self.plate([(60.0, 50.0, 20.0)], layer_mm=0.15)
        (flag,) = [f for f in result.flags if f.severity == "stop"]
        assert flag.fix
        self.assertEqual((flag.code, flag.fix.values), ("no-such-layer", {"layer_mm": 0.1}))
        self.assertEqual(codes(self.plate([(60.0, 50.0, 20.0)], layer_mm=0.1)), ["on-plate"])

    def test_what_one_body_alone_adds_to_the_time_is_said_at_its_top(self) -> None:
        result = self.plate([(40.0, 40.0, 80.0), (55.0, 45.0, 18.0)], printer="heron")
        (flag,) = [f for f in result.flags if f.code == "long"]
        assert flag.place
        self.assertEqual((flag.severity, flag.place.piece), ("note", "u"))
        self.assertIn("The last 1240 layers (155 min) are of upper alone", flag.message)

    def test_a_size_correction_counts_along_the_plate_whichever_way_a_body_is_turned(self) -> None:
        percent = np.array([1.0, -0.4, 0.5])
        stuff = dict(zip(("size_x", "size_y", "size_z"), percent, strict=True))
        # As they are; and of a size at which they have to be turned.
        two, alike, one, long = (
            [(60.0, 50.0, 20.0), (55.0, 45.0, 18.0)],
            [(50.0, 68.0, 20.0)] * 2,
            [(90.0, 69.0, 20.0)],
            [(50.0, 100.0, 20.0)],
        )
        for sizes, by_a_quarter in ((two, False), (alike, False), (one, False), (long, True)):
            result = self.plate(sizes, stuff=stuff)
            self.assertEqual(codes(result), ["on-plate", "sized"])
            self.assertEqual(result.values["printing"]["sized_percent"], [1.0, -0.4, 0.5])
            self.assertIn("+1.00 % along the width, -0.40 % along the depth and +0.50 % upwards", result.flags[1].message)
            for (low, high), size in zip(self.places(result, sizes), sizes, strict=True):
                asked = np.array([size[1], size[0], size[2]] if by_a_quarter else size) * (1 + percent / 100)
                np.testing.assert_allclose(high - low, asked, rtol=0, atol=1e-6)
                self.assertAlmostEqual(low[2], 0.0)
        plain, same = self.plate(sizes), self.plate(sizes, stuff={"size_x": 0.0})
        self.assertNotIn("sized_percent", plain.values["printing"])
        np.testing.assert_array_equal(plain.values["home_to_plate"]["u"], same.values["home_to_plate"]["u"])

    def test_a_printer_that_is_gone_is_said(self) -> None:
        with self.assertRaises(StepFailed) as caught:
            do("plate", {"body": {}, "stand": {}, "printer": None}, {"u": "upper"}, printer="kestrel")
        self.assertIn("“kestrel”", caught.exception.message)

    def test_turned_by_a_quarter_where_that_fits(self) -> None:
        sizes = [(50.0, 68.0, 20.0), (50.0, 68.0, 20.0)]
        for name, (low, high) in zip("ul", self.places(self.plate(sizes), sizes), strict=True):
            self.assertGreaterEqual(low[:2].min(), 2.0 - 1e-9, name)
            self.assertLessEqual(high[0], 142.0 + 1e-9)
            self.assertLessEqual(high[1], 80.0 + 1e-9)

    def test_only_some_turned_or_in_rows_where_that_fits(self) -> None:
        for sizes, printer in (
            ([(75.0, 60.0, 20.0), (75.0, 60.0, 20.0)], "wren"),  # 75 + 3 + 60 wide: one of them turned
            ([(90.0, 58.0, 20.0)] * 4, "heron"),  # two rows of two
        ):
            result = self.plate(sizes, printer=printer)
            self.assertEqual(codes(result), ["on-plate"], printer)
            plate = BUILT_IN["printer"][printer].data
            places = self.places(result, sizes)
            for k, (low, high) in enumerate(places):
                self.assertGreaterEqual(low[:2].min(), 2.0 - 1e-6)
                self.assertLessEqual(high[0], plate["width_mm"] - 2.0 + 1e-6)  # type: ignore[operator]
                self.assertLessEqual(high[1], plate["depth_mm"] - 2.0 + 1e-6)  # type: ignore[operator]
                for other in places[:k]:
                    self.assertGreaterEqual(np.maximum(low - other[1], other[0] - high)[:2].max(), 3.0 - 1e-6)

    def test_too_large_and_too_tall_stop_with_the_sizes(self) -> None:
        result = self.plate([(100.0, 70.0, 20.0), (100.0, 70.0, 20.0)])
        self.assertEqual(codes(result), ["off-plate"])
        self.assertIn("144 × 82 mm", result.flags[0].message)
        self.assertIsNone(self.plate([(130.0, 70.0, 20.0), (130.0, 70.0, 20.0)], gap_mm=1.0).flags[0].fix)
        fix = result.flags[0].fix
        assert fix
        self.assertEqual((fix.step, fix.piece, fix.values), ("plate", "*", {"printer": "heron"}))
        self.assertEqual(codes(self.plate([(130.0, 70.0, 20.0), (130.0, 70.0, 20.0)], printer="heron", gap_mm=1.0)), ["off-plate"])
        self.assertEqual(codes(self.plate([(90.0, 70.0, 20.0), (90.0, 70.0, 20.0)], printer="heron")), ["on-plate"])
        self.assertIn("too-tall", codes(self.plate([(20.0, 20.0, 161.0)])))
