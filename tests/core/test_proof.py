"""The proof: files read back against closed forms, and the sheet read back by another library."""

from __future__ import annotations

import hashlib
import json
import unittest
from typing import Any, cast

import numpy as np
import pypdfium2
import trimesh

from bitecore.engine.gives import Files, FileValue
from bitecore.engine.model import Inputs
from bitecore.files import stl, threemf
from bitecore.mesh import Mesh, joined
from bitecore.progress import QUIET
from bitecore.runsheet import standard
from bitecore.runsheet.proof_pdf import proof_pdf
from bitecore.runsheet.proof_words import sections
from bitecore.runsheet.proofed import Proof, written
from tests.core.test_benchrun import RunCase
from tests.shapes import light_jaws as jaws
from tests.shapes import turn


def mesh_of(body: trimesh.Trimesh) -> Mesh:
    return Mesh.of(np.asarray(body.vertices, float), np.asarray(body.faces, np.int32))


def measured(files: dict[str, bytes], scan: Mesh, matrix: np.ndarray) -> list[dict[str, Any]]:
    step = standard()["measured"]
    rows = [
        {"sha256": hashlib.sha256(data).hexdigest(), "piece": "p1", "kind": "body", "home_to_frame": matrix.tolist()}
        for data in files.values()
    ]
    values = {"files": Files(FileValue(name, data) for name, data in files.items()), "outputs": rows, "scan": {"p1": scan}}
    return cast(list, step.apply(Inputs(values), step.check({}), QUIET).values["measured"])


class MeasuredTest(unittest.TestCase):
    def test_boxes_and_a_ring_in_closed_form(self) -> None:
        box = mesh_of(trimesh.creation.box((20, 30, 40)))
        ring = mesh_of(trimesh.creation.annulus(5, 8, height=10, sections=720))
        where = turn(5)
        both = joined([box.moved(where), ring.moved(where).moved(np.array([[1, 0, 0, 60], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]))])
        files = {"a.stl": stl.write_binary(box), "b.3mf": threemf.write([("both", both)], title="both")}
        one, two = measured(files, box, np.eye(4))
        self.assertEqual((one["bodies"], one["triangles"], one["size_mm"], one["open_edges"]), (1, 12, (20.0, 30.0, 40.0), 0))
        self.assertAlmostEqual(one["volume_ml"], 24.0, places=5)
        self.assertAlmostEqual(one["area_mm2"], 2 * (20 * 30 + 20 * 40 + 30 * 40), places=3)
        self.assertEqual((one["corners"], one["of_scan"]), (8, 8))
        # Of a polygon of 720 corners the area is n/2 sin(2 pi/n) of the circle's pi.
        share = 720 / 2 * np.sin(2 * np.pi / 720)
        self.assertEqual((two["bodies"], two["open_edges"], two["crowded_edges"]), (2, 0, 0))
        self.assertAlmostEqual(two["volume_ml"], 24.0 + share * (64 - 25) * 10 / 1000, places=4)

    def test_a_hole_is_told_and_corners_that_moved_are_not_the_scans(self) -> None:
        ball = mesh_of(trimesh.creation.icosphere(3, 10.0))
        where = turn(9)
        open_ball = ball.of_faces(np.arange(ball.triangles) > 0).moved(where)
        off = open_ball.vertices_mm.copy()
        off[:40] += [0.0, 0.0, 0.001]
        moved = Mesh.of(off, open_ball.faces)
        files = {"a.stl": stl.write_binary(moved), "a.3mf": threemf.write([("a", moved)], title="a")}
        for one in measured(files, ball, where):
            self.assertEqual(one["open_edges"], 3)
            self.assertEqual(one["corners"] - one["of_scan"], 40)


class SheetTest(unittest.TestCase):
    def proof(self, **more: Any) -> Proof:
        plate = {"printer": "Heron", "resin": "Plaster grey", "layer_mm": 0.05, "layers": 400, "seconds": 3000.0, "resin_ml": 40.0}
        out = {
            "format": 1, "number": "2612-07", "opened": "2026-12-01", "inputs": [], "settings": [], "outputs": [], "left": [],
            "plate": {**plate, "sized_percent": [0.3, 0.25, -0.1]},
        }  # fmt: skip
        return cast(Proof, {**out, **more})

    def text(self, proof: Proof, picture: bytes | None = None) -> str:
        sheet = pypdfium2.PdfDocument(proof_pdf(proof, picture))
        return "\n".join(page.get_textpage().get_text_range() for page in sheet)

    def test_the_same_proof_gives_the_same_bytes_and_says_which_figures_it_is_of(self) -> None:
        proof = self.proof()
        self.assertEqual(proof_pdf(proof), proof_pdf(json.loads(written(proof))))
        text = self.text(proof)
        self.assertIn(hashlib.sha256(written(proof)).hexdigest(), text)
        self.assertIn("0.3 % in width, 0.25 % in depth, -0.1 % in height", text)
        self.assertIn("All settings are as they ship.", text)

    def test_names_in_other_letters_and_markup_are_said_as_they_are(self) -> None:
        text = self.text(self.proof(patient="Zażółć Ωμέγα Щукин <b>&amp;</b> 山", practice="A & B"))
        for word in ("Zażółć", "Ωμέγα", "Щукин", "<b>&amp;</b>", "A & B"):
            self.assertIn(word, text)

    def test_whatever_was_typed_the_sheet_is_made(self) -> None:
        long = dict.fromkeys(("patient", "practice", "purpose", "due", "technician", "teeth"), "w" * 2000)
        one = {"piece": "p1", "file": "f" * 300, "sha256": "0" * 64, "kind": "jaw", "jaw": None, "unit_mm": None}
        setting = {"step": "label", "title": "Label", "piece": None, "jaw": None, "key": "k", "label": "Line", "unit": "", "whose": "case"}
        setting |= {"value_said": "x" * 300, "default_said": "none"}
        odd = self.proof(**long, inputs=[one], settings=[{**setting, "value": "x" * 300, "default": ""}], plate=None)
        text = self.text(odd)
        self.assertIn("Proof 2612-07", text)
        self.assertIn("Its layers are not worked out.", text)
        # A line break or a bell in a name is a gap, a letter that no font here has is a dot.
        self.assertIn("A B · C", self.text(self.proof(patient="A\nB\a山 C")))

    def test_many_findings_run_over_several_pages(self) -> None:
        left = [{"step": "trim", "title": "Trim", "jaw": "upper", "severity": "look", "message": f"Place {k}." * 9} for k in range(150)]
        sheet = pypdfium2.PdfDocument(proof_pdf(self.proof(left=left)))
        self.assertGreater(len(sheet), 2)
        self.assertIn("Place 149.", sheet[len(sheet) - 1].get_textpage().get_text_range())


class RunProofTest(RunCase):
    def test_a_run_writes_figures_and_sheet_that_agree_with_the_files(self) -> None:
        upper = jaws(3)[0]
        status, _, err = self.run_bench(
            self.write("u.stl", upper), "--set", "base.thickness_mm=4", "--set", "hand-off.frame=home", "--set", "plate.printer=heron"
        )  # fmt: skip
        self.assertEqual((status, err), (0, ""))
        out = self.folder / "out"
        proof = json.loads((out / "proof.json").read_text())
        self.assertEqual([i["sha256"] for i in proof["inputs"]], [hashlib.sha256((self.folder / "u.stl").read_bytes()).hexdigest()])
        self.assertEqual(
            [(s["label"], s["value"], s["default"], s["whose"]) for s in proof["settings"] if s["step"] == "base"],
            [("Under the lowest point", 4.0, 2.0, "case")],
        )
        said = {s["key"]: (s["value_said"], s["default_said"], s["unit"]) for s in proof["settings"]}
        self.assertEqual((said["printer"], said["thickness_mm"]), (("Heron", "Wren", ""), ("4", "2", "mm")))
        self.assertEqual({o["file"] for o in proof["outputs"]}, {o["file"] for o in self.report()["outputs"]})
        for row in proof["outputs"]:
            data = (out / row["file"]).read_bytes()
            self.assertEqual((row["bytes"], row["sha256"]), (len(data), hashlib.sha256(data).hexdigest()))
            body = trimesh.load(out / row["file"], force="mesh")
            self.assertAlmostEqual(row["volume_ml"], body.volume / 1000, places=3)
            self.assertAlmostEqual(row["area_mm2"], body.area, delta=1e-4 * body.area)
            np.testing.assert_allclose(row["size_mm"], body.extents, atol=1e-3)
            self.assertGreater(row["of_scan"], 0.5 * row["corners"])
        text = pypdfium2.PdfDocument(str(out / "proof.pdf"))[0].get_textpage().get_text_range()
        self.assertTrue(all(row["sha256"][:32] in text for row in proof["outputs"]))

    def test_where_nothing_was_made_there_is_no_proof(self) -> None:
        self.run_bench(self.write("u.stl", jaws(3)[0]), "--until", "trim")
        self.assertFalse((self.folder / "out" / "proof.json").exists())


class WordsTest(unittest.TestCase):
    def test_what_was_said_yes_to_at_one_stroke_stands_in_one_line(self) -> None:
        at = "2026-12-01T10:00:00+00:00"
        yes = [{"step": s, "title": s.title(), "who": "Mira Tallow", "at": at, "changed": []} for s in ("intake", "bite")]
        yes.append({"step": "trim", "title": "Trim", "who": "Mira Tallow", "at": at, "changed": ["Version of the step"]})
        proof = cast(Proof, {**SheetTest().proof(), "accepted": yes, "handed_off": [{"who": "Tove Ashgrove", "at": at}]})
        said = next(s for s in sections(proof) if s["title"] == "Who said yes")
        self.assertEqual([row[0]["lines"][0] for row in said["rows"]], ["Intake, Bite", "Trim", "Files made"])
        self.assertEqual(said["rows"][1][3]["lines"], ["since then another: Version of the step"])
