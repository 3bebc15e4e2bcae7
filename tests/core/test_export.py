"""Files out: names, frames, one file for each or for all."""

from __future__ import annotations

import io
import unittest

import numpy as np
import trimesh

from bitecore.errors import StepFailed
from bitecore.runsheet.export import Body, export, lies_on_plate, safe_folder, safe_name
from bitecore.runsheet.part_names import kind_of
from tests.shapes import box, sphere, turn

WORDS = {"number": "2611-07", "patient": "Ilse Marrowby", "practice": "Saltmarsh / Rovers"}


class NameTest(unittest.TestCase):
    def test_words_are_put_in(self) -> None:
        self.assertEqual(safe_name("{number}_{jaw}", {**WORDS, "jaw": "upper"}), "2611-07_upper")
        self.assertEqual(safe_name("{patient}", WORDS), "Ilse Marrowby")

    def test_nothing_leads_out_of_the_folder(self) -> None:
        for patient in ("../../etc/passwd", "a/b\\c", "C:\\x", "..", "\0", "con\n", "   "):
            name = safe_name("{patient}", {"patient": patient})
            self.assertNotRegex(name, r"[/\\\0\n:]")
            self.assertNotIn("..", name.strip("."))
            self.assertTrue(name)

    def test_folders_are_paths_of_safe_names(self) -> None:
        words = {**WORDS, "date": "2026-11-25"}
        self.assertEqual(safe_folder("{date}/{number}", words), "2026-11-25/2611-07")
        self.assertEqual(safe_folder("", words), "")
        for wild in ("../{date}", "/{date}/", "..\\{date}", "./{date}/.."):
            self.assertEqual(safe_folder(wild, words), "2026-11-25")

    def test_letters_of_all_tongues_stay(self) -> None:
        self.assertEqual(safe_name("{patient}", {"patient": "Žofie Ångström"}), "Žofie Ångström")

    def test_an_unknown_word_is_named_with_those_that_are_known(self) -> None:
        with self.assertRaises(StepFailed) as caught:
            safe_name("{shade}", WORDS)
        self.assertIn("{shade}", caught.exception.message)
        self.assertIn("{patient}", caught.exception.message)

    def test_long_names_are_cut(self) -> None:
        self.assertLessEqual(len(safe_name("{patient}", {"patient": "x" * 500})), 120)


class ExportTest(unittest.TestCase):
    def setUp(self) -> None:
        self.m = turn(3)
        self.bodies = [
            Body("p1", "upper", "body", box((2, 3, 4)), self.m),
            Body("p2", "lower", "body", sphere(5, 12), np.eye(4)),
        ]

    def test_what_is_printed_by_itself_says_what_it_is(self) -> None:
        pieces = ("p1", "p1.die-16", "p1.loose-15", "p1.hinge-left")
        bodies = [Body(piece, "upper", kind_of(piece), box((2, 3, 4)), np.eye(4)) for piece in pieces]
        rows = [row for f in export(bodies, frame="bench", pattern="{number}_{jaw}", words=WORDS, threemf_all=False) for row in f.rows]
        self.assertEqual([(r["kind"], r.get("teeth")) for r in rows], [("body", None), ("die", [16]), ("die", [15]), ("part", None)])
        self.assertEqual(len({r["name"] for r in rows}), 4)
        lying = [lies_on_plate(b.piece, b.jaw, kind, b.mesh, np.eye(4)) for b in bodies for kind in (b.kind, "supports")]
        self.assertEqual(len({b.called for b in lying}), 8)

    def files(self, **options: bool) -> dict[str, bytes]:
        made = export(self.bodies, frame="bench", pattern="{number}_{jaw}", words=WORDS, **options)
        return {f.name: f.data for f in made}

    def test_one_each_and_one_for_all(self) -> None:
        files = self.files(stl_each=True, stl_all=True, threemf_each=True, threemf_all=True)
        self.assertEqual(
            sorted(files),
            ["2611-07_all.3mf", "2611-07_all.stl", "2611-07_lower.3mf", "2611-07_lower.stl", "2611-07_upper.3mf", "2611-07_upper.stl"],
        )
        whole = trimesh.load(io.BytesIO(files["2611-07_all.stl"]), file_type="stl")
        self.assertEqual(len(whole.split()), 2)
        both = trimesh.load(io.BytesIO(files["2611-07_all.3mf"]), file_type="3mf")
        self.assertEqual(len(both.geometry), 2)

    def test_nothing_asked_nothing_made(self) -> None:
        self.assertEqual(self.files(stl_each=False, threemf_all=False), {})

    def test_the_frame_is_applied_at_the_end(self) -> None:
        upper = trimesh.load(io.BytesIO(self.files()["2611-07_upper.stl"]), file_type="stl")
        exact = trimesh.Trimesh(box((2, 3, 4)).vertices_mm, box((2, 3, 4)).faces).apply_transform(self.m)
        np.testing.assert_allclose(np.sort(upper.vertices, axis=0), np.sort(exact.vertices, axis=0), atol=1e-5)
        self.assertAlmostEqual(upper.volume, 24.0, places=4)

    def test_a_pattern_without_the_jaw_gives_two_names_all_the_same(self) -> None:
        made = export(self.bodies, frame="home", pattern="model", words={}, threemf_all=False)
        self.assertEqual([f.name for f in made], ["model.stl", "model_lower.stl"])

    def test_an_unknown_place_is_said(self) -> None:
        with self.assertRaises(StepFailed) as caught:
            export([Body("p2", "lower", "body", box(), None)], frame="bite", pattern="x", words={})
        self.assertIn("lower in bite coordinates", caught.exception.message)

    def test_rows_tell_what_is_in_each_file(self) -> None:
        made = export(self.bodies, frame="bench", pattern="{jaw}", words={})
        rows = [(f.name, [r["piece"] for r in f.rows]) for f in made]
        self.assertEqual(rows, [("upper.stl", ["p1"]), ("lower.stl", ["p2"]), ("all.3mf", ["p1", "p2"])])
        np.testing.assert_allclose(made[0].rows[0]["home_to_frame"], self.m)
