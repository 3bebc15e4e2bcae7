"""The veil: nothing made from a patient's name leaves the server while it is down, and nothing else is touched."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

import pypdfium2

from bitecore.files import stl
from cases.models import Case
from cases.pictures import picture_job
from runs.services import look
from tests.core.test_files import zipped
from tests.server.common import client, drop, post, yes
from tests.server.test_work import STEPS, WorkCase
from tests.shapes import light_jaws as jaws

# Short, with umlauts, written in two ways, a word of the API, and one that is corrected later.
PATIENTS = ("Bo Ek", "Jürgen Möß", "Juergen Moess", "Upper Done", "Corwin Pellathorn")


class VeilTest(WorkCase):
    def setUp(self) -> None:
        super().setUp()
        upper, lower = jaws(3)
        # File names as scanners make them, with the patient in them.
        self.names = ["Ek_Bo_upper.stl", "Möß, Jürgen (lower).stl"]
        case = self.opened((self.names[0], stl.write_binary(upper)), (self.names[1], stl.write_binary(lower)))
        self.number, base = case.number, case.revision
        # The same scans lie in another patient's case too.
        self.opened(("Pellathorn_OK.stl", stl.write_binary(upper)))
        values = {"pattern": "{patient}_{number}_{jaw}", "folder": "{patient}"}
        base = self.change("settings", base, step="hand-off", values=values)
        for patient in PATIENTS:
            base = self.change("details", base, values={"patient": patient, "notes": f"{patient} grinds at night"})
        base = self.change("pieces/p2", base, what="beside")
        post(self.mira, f"/api/cases/{self.number}/undo")
        base = self.mira.get(f"/api/cases/{self.number}").json()["revision"]
        for one in Case.objects.all():
            self.work(one)
        self.assertEqual(yes(self.mira, self.number, base, STEPS).status_code, 200)
        post(self.mira, f"/api/cases/{self.number}/hand-off")
        self.work(Case.objects.get(number=self.number))

    def change(self, way: str, base: int, **body: Any) -> int:
        answer = post(self.mira, f"/api/cases/{self.number}/{way}", {"base": base, **body})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()["revision"]

    def everything(self) -> dict[str, str]:
        """All that goes out, as text."""
        who, number = self.mira, self.number
        out = {}
        for address in ("", f"/{number}", f"/{number}/history", f"/{number}/moved"):
            out[address] = json.dumps(who.get(f"/api/cases{address}").json(), ensure_ascii=False)
        files = who.get(f"/api/cases/{number}").json()["files"]
        for file in files:
            out[file["name"]] = self.taken(f"files/{file['name']}")
        for way in ("files.zip", "case.zip", "scans/p1.stl?frame=home"):
            out[way] = self.taken(way)
        out["proof"] = json.dumps(who.get(f"/api/proofs/{number}").json(), ensure_ascii=False)
        out["proof.json"] = who.get(f"/api/proofs/{number}/proof.json").content.decode()
        sheet = pypdfium2.PdfDocument(who.get(f"/api/proofs/{number}/proof.pdf").content)
        out["proof.pdf"] = "".join(page.get_textpage().get_text_range() for page in sheet)
        out["refused"] = json.dumps(drop(who, ("Ek.stl", b"?"), ("Pellathorn.zip", zipped(("Bo.stl", b"?"), ("Ek.txt", b"x")))).json())
        return out

    def taken(self, way: str) -> str:
        """A download: its name, and of a ZIP or a 3MF every name and every text inside."""
        answer = self.mira.get(f"/api/cases/{self.number}/{way}")
        self.assertEqual(answer.status_code, 200, way)
        text = answer["Content-Disposition"]
        if answer.content[:2] == b"PK":
            with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
                for member in archive.infolist():
                    data = archive.read(member)
                    text += member.filename + data[:84].decode("latin1")
                    if member.filename.endswith((".json", ".model", ".rels")):
                        text += data.decode()
        return text

    def test_no_name_goes_out_in_any_form(self) -> None:
        words = {"Bo", "Ek", "Jürgen", "Möß", "Juergen", "Moess", "Corwin", "Pellathorn", "grinds"}
        lifted = " ".join(self.everything().values())
        for word in words - {"Bo", "Juergen", "Moess"}:
            self.assertIn(word, lifted)
        post(self.mira, "/api/cases/veil", {"down": True})
        for where, text in self.everything().items():
            for word in words:
                self.assertNotRegex(text, rf"(?<![A-Za-zäöüß]){word}(?![a-zäöüß])", where)
        # Words of the API are nobody's name.
        shown = self.mira.get(f"/api/cases/{self.number}").json()
        self.assertEqual({p["jaw"] for p in shown["pieces"]}, {"upper", "lower"})
        self.assertIn("done", {n["state"] for n in shown["nodes"]})
        wanted = [f"{self.number}_{word}" for word in ("all.3mf", "lower.stl", "upper.stl")]
        self.assertEqual(sorted(f["name"] for f in shown["files"]), wanted)
        self.assertTrue(shown["veiled"])

    def test_nothing_is_found_by_what_is_hidden(self) -> None:
        self.assertEqual(len(self.mira.get("/api/cases?find=corwin").json()), 1)
        post(self.mira, "/api/cases/veil", {"down": True})
        for words in ("corwin", "pellathorn", "grinds", "ek_bo", "möß"):
            self.assertEqual(self.mira.get("/api/cases", {"find": words}).json(), [], words)
        self.assertEqual(len(self.mira.get("/api/cases", {"find": self.number}).json()), 1)

    def test_it_is_this_browsers_veil(self) -> None:
        post(self.mira, "/api/cases/veil", {"down": True})
        self.assertIn("Pellathorn", json.dumps(client("tove").get(f"/api/cases/{self.number}").json()))
        post(self.mira, "/api/cases/veil", {"down": False})
        self.assertEqual(self.mira.get(f"/api/cases/{self.number}").json()["details"]["patient"], "Corwin Pellathorn")

    def test_a_corrected_name_makes_no_file_anew(self) -> None:
        before = {f["sha256"]: f["name"] for f in self.mira.get(f"/api/cases/{self.number}").json()["files"]}
        base = self.mira.get(f"/api/cases/{self.number}").json()["revision"]
        self.change("details", base, values={"patient": "Ilse Marrowby"})
        after = {f["sha256"]: f["name"] for f in self.mira.get(f"/api/cases/{self.number}").json()["files"]}
        self.assertEqual(set(before), set(after))
        self.assertTrue(all("Marrowby" in name for name in after.values()), after)
        self.assertTrue(all("Pellathorn" in name for name in before.values()), before)

    def test_a_name_on_a_model_is_dots_and_is_printed_as_it_is(self) -> None:
        case = Case.objects.get(number=self.number)
        base = self.mira.get(f"/api/cases/{self.number}").json()["revision"]
        values = {"style": "engraved", "pattern": "{patient} {jaw}", "tall_mm": 2.0}
        self.change("settings", base, step="label", piece="*", values=values)
        case = self.work(case)

        def shown() -> tuple[str, dict[str, dict[str, Any]]]:
            answer = self.mira.get(f"/api/cases/{self.number}?step=label").json()
            nodes = {n["id"]: n["good"] for n in answer["nodes"] if n["step"] in ("label", "assemble", "wall-map")}
            return json.dumps(answer, ensure_ascii=False), nodes

        text, open_ = shown()
        self.assertIn(PATIENTS[-1], text)
        post(self.mira, "/api/cases/veil", {"down": True})
        text, hidden = shown()
        for part in PATIENTS[-1].split():
            self.assertNotIn(part, text)
        graph = look(case)
        for node in graph.of_step("assemble"):
            made = node.manifest.values
            self.assertEqual(open_[node.id]["body"], made["body"]["mesh"])
            self.assertEqual(hidden[node.id]["body"], made["veiled"]["mesh"])
            self.assertNotEqual(made["veiled"]["mesh"], made["body"]["mesh"])
            label = hidden[f"label/{node.piece}"]
            self.assertIn("•••••", label["labels"][0]["text"])
            self.assertNotEqual(label["letters"], open_[f"label/{node.piece}"]["letters"])
        # Pictures lie on the rack whether the veil is down or not.
        job = picture_job(case.owner_id, graph)
        assert job
        self.assertEqual({digest for digest, _ in job.meshes}, {n.manifest.values["veiled"]["mesh"] for n in graph.of_step("assemble")})
        # What is printed bears the name.
        self.assertEqual(
            {r["body"]["mesh"] for r in [n.manifest.values for n in graph.of_step("assemble")]},
            {g["body"] for k, g in open_.items() if k[:3] == "ass"},
        )
