"""./bench run as a person calls it: files in, bodies and report.json out, a sentence where it cannot."""

from __future__ import annotations

import contextlib
import io
import json
import os
import tempfile
import unittest
import unittest.mock
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from benchrun.__main__ import main
from bitecore.files import ply, stl
from bitecore.mesh import Mesh
from bitecore.runsheet import standard
from tests.core.test_files import zipped
from tests.shapes import light_jaws as jaws
from tests.shapes import turn

STEP_NAMES = [step.name for step in standard().shown]


class RunCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def write(self, name: str, data: bytes | Mesh) -> str:
        path = self.folder / name
        path.write_bytes(stl.write_binary(data) if isinstance(data, Mesh) else data)
        return str(path)

    def run_bench(self, *words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = main([*words, "--out", str(self.folder / "out")])
        return status, out.getvalue(), err.getvalue()

    def report(self) -> dict[str, Any]:
        return json.loads((self.folder / "out" / "report.json").read_text())


class WholeRunTest(RunCase):
    def test_pair_in_a_zip_with_hostile_names(self) -> None:
        upper, lower = jaws(3)
        data = zipped(("export/Scan A.stl", stl.write_ascii(upper)), ("export/2.ply", ply.write(lower)), ("notes.txt", b"x"))
        status, _, err = self.run_bench(self.write("all.zip", data))
        self.assertEqual((status, err), (0, ""))
        report = self.report()
        self.assertEqual(set(report), {"format", "inputs", "steps", "outputs", "seconds"})
        self.assertEqual(report["format"], 1)
        self.assertEqual(
            [(i["file"], i["jaw"], i["kind"]) for i in report["inputs"]],
            [("export/Scan A.stl", "upper", "jaw"), ("export/2.ply", "lower", "jaw")],
        )
        for row in report["inputs"]:
            self.assertLessEqual(
                {
                    "piece",
                    "file",
                    "kind",
                    "jaw",
                    "confidence",
                    "unit_mm",
                    "turned_inside_out",
                    "facing",
                    "home_to_bite",
                    "home_to_bench",
                    "flags",
                },
                set(row),
            )
        self.assertEqual(list(dict.fromkeys(s["step"] for s in report["steps"])), STEP_NAMES)
        for step in report["steps"]:
            self.assertLessEqual({"step", "piece", "jaw", "seconds", "cached", "settings", "readings", "flags"}, set(step))
            for flag in step["flags"]:
                self.assertLessEqual({"id", "code", "severity", "message", "place"}, set(flag))
        self.bodies(report, upper)

    def bodies(self, report: dict, upper: Mesh) -> None:
        import hashlib

        self.assertEqual({Path(o["file"]).suffix for o in report["outputs"]}, {".stl", ".3mf"})
        for row in report["outputs"]:
            data = (self.folder / "out" / row["file"]).read_bytes()
            self.assertEqual(hashlib.sha256(data).hexdigest(), row["sha256"])
            self.assertEqual(row["frame"], "bench")
        row = next(o for o in report["outputs"] if o["file"].endswith(".stl") and o["jaw"] == "upper")
        body = trimesh.load(self.folder / "out" / row["file"])
        self.assertTrue(body.is_watertight and body.volume > 0)
        # Back in home coordinates the teeth are where the scan has them.
        body.apply_transform(np.linalg.inv(np.array(row["home_to_frame"])))
        off = np.array(
            [trimesh.proximity.closest_point(trimesh.Trimesh(upper.vertices_mm, upper.faces, process=False), body.vertices[::400])[1]]
        )
        self.assertLess(np.quantile(off, 0.6), 0.005)

    def test_until_frame_set_and_jaw(self) -> None:
        scan = self.write("a b.stl", jaws(21)[1].moved(turn(3)))
        status, _, _ = self.run_bench(
            scan,
            "--until",
            "trim",
            "--frame",
            "home",
            "--jaw",
            "a b.stl=upper",
            "--set",
            "trim.ease_mm=1.25",
            "--set",
            "trim.back_saw=false",
        )
        self.assertEqual(status, 0)
        report = self.report()
        self.assertEqual(report["inputs"][0]["jaw"], "upper")
        trim = next(s for s in report["steps"] if s["step"] == "trim")
        self.assertEqual((trim["settings"]["ease_mm"], trim["settings"]["back_saw"]), (1.25, False))
        (row,) = report["outputs"]
        np.testing.assert_array_equal(row["home_to_frame"], np.eye(4))

    def test_a_stop_is_status_3_and_in_the_report(self) -> None:
        scan = self.write("a.stl", jaws(21)[1])
        status, _, err = self.run_bench(scan, "--set", "trim.bottom_mm=2", "--set", "trim.ease_mm=5")
        self.assertIn(status, (0, 3))
        status, _, err = self.run_bench(scan, "--set", "plate.margin_mm=20", "--set", "plate.printer=wren")
        self.assertEqual(status, 3)
        self.assertIn("report.json says which", err)
        flags = [f for s in self.report()["steps"] for f in s["flags"] if f["severity"] == "stop"]
        self.assertIn("do not fit on the Wren", flags[0]["message"])

    def test_a_pattern_that_cannot_name_a_file_is_refused_before_anything_is_done(self) -> None:
        status, _, err = self.run_bench(self.write("a.stl", jaws(21)[1]), "--set", "hand-off.pattern={colour}")
        self.assertEqual(status, 2)
        self.assertIn("{colour} is not known", err)

    def test_same_file_twice_is_noticed(self) -> None:
        scan = self.write("a.stl", jaws(21)[1])
        other = self.write("b.stl", jaws(21)[1])
        self.assertEqual(self.run_bench(scan, other, "--until", "intake")[0], 0)
        self.assertIn("same-file", [f["code"] for f in self.report()["inputs"][1]["flags"]])

    def test_same_input_same_bytes(self) -> None:
        scan = self.write("a.stl", jaws(21)[1])
        outputs = []
        for _ in range(2):
            self.run_bench(scan)
            outputs.append([(o["file"], o["sha256"]) for o in self.report()["outputs"]])
        self.assertEqual(outputs[0], outputs[1])


class RefusalTest(RunCase):
    def refuse(self, *words: str) -> str:
        status, _, err = self.run_bench(*words)
        self.assertEqual(status, 2, err)
        self.assertEqual(len(err.strip().splitlines()), 1, err)
        self.assertNotIn("Traceback", err)
        return err

    def test_files_that_cannot_be_used(self) -> None:
        whole = stl.write_binary(jaws(21)[1])
        for name, data in {
            "empty.stl": b"",
            "cut.stl": whole[:5000],
            "letter.stl": b"Good morning\n" * 50,
            "cut.zip": zipped(("u.stl", whole))[:4000],
            "out.zip": zipped(("../u.stl", whole)),
            "none.zip": zipped(("readme.md", b"x")),
        }.items():
            with self.subTest(name):
                self.assertIn(name, self.refuse(self.write(name, data)))

    def test_words_that_fit_nothing(self) -> None:
        scan = self.write("a.stl", jaws(21)[1])
        for words, said in (
            (["/nowhere/a.stl"], "/nowhere/a.stl"),
            ([scan, "--until", "polish"], "polish"),
            ([scan, "--set", "base.thickness_mm=0.1"], "greater than or equal to 1"),
            ([scan, "--set", "base.colour=red"], "colour"),
            ([scan, "--set", "thickness"], "STEP.KEY=VALUE"),
            ([scan, "--jaw", "b.stl=upper"], "b.stl"),
            ([scan, "--jaw", "a.stl=middle"], "upper"),
            ([scan, "--frame", "moon"], "moon"),
        ):
            with self.subTest(words):
                self.assertIn(said, self.refuse(*words))

    def test_folder_that_cannot_be_written(self) -> None:
        scan = self.write("a.stl", jaws(21)[1])
        self.write("out", b"a file where the folder should be")
        self.assertIn("out", self.refuse(scan, "--until", "intake"))


class EnvironmentTest(unittest.TestCase):
    def test_core_knows_no_server(self) -> None:
        for path in (Path(__file__).resolve().parents[2] / "core").rglob("*.py"):
            text = path.read_text()
            for word in ("import django", "from django", "psycopg", "http.server"):
                self.assertNotIn(word, text, path)
        self.assertNotIn("DJANGO", "".join(k for k in os.environ if k.startswith("BITECORE")))


class LimitTest(RunCase):
    def test_the_limit_is_a_setting_and_is_said(self) -> None:
        scan = self.write("a.stl", jaws(21)[1])
        with unittest.mock.patch.dict(os.environ, {"BENCH_TRIANGLES": "1000"}):
            status, _, err = self.run_bench(scan)
        self.assertEqual(status, 2)
        self.assertIn("up to 1,000 are accepted", err)
