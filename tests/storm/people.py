"""A person at work: what was answered with yes is written into the ledger, and has to be true at the end."""

from __future__ import annotations

import hashlib
import json
import random
import threading
import time
import urllib.error
from typing import Any, NoReturn

import numpy as np

from bitecore.files import stl
from bitecore.mesh import Mesh
from bitecore.runsheet import standard
from tests.caller import Caller
from tests.shapes import jaws
from tests.storm.house import House

_STEPS = [step.name for step in standard().shown if not step.on_demand]


class Person(threading.Thread):
    def __init__(self, name: str, house: House, ledger: list[dict], ended: threading.Event, seed: int) -> None:
        super().__init__(daemon=True)
        self.who, self.house, self.ledger, self.ended = name, house, ledger, ended
        self.rng = random.Random(seed)
        self.web = Caller(house.address)
        self.answers: dict[str, int] = {}
        self.meshes = [mesh for number in (3, 21) for mesh in jaws(number)]

    def run(self) -> None:
        while not self.ended.is_set():
            try:
                self.one()
            except (OSError, ValueError, KeyError):
                time.sleep(0.5)  # the house is being sabotaged
            time.sleep(self.rng.random())

    def one(self) -> None:
        if not self.call("GET", "/api/me")["person"]:
            self.call("POST", "/api/sign-in", {"name": self.who, "password": "plaster-and-light"})
        cases = [t["number"] for t in self.call("GET", "/api/cases")]
        what = self.rng.choices(
            (self.drop, self.set, self.mark, self.undo, self.hand_off, self.delete, self.look),
            (3, 6, 4, 2, 1, 6 if len(cases) > 12 else 0, 3),
        )[0]
        if not cases or (what == self.drop and len(cases) < 30):
            self.drop()
        elif what == self.drop:
            self.delete(self.rng.choice(cases))
        else:
            what(self.rng.choice(cases))

    def drop(self) -> None:
        files = [self.scan(mesh) for mesh in self.rng.sample(self.meshes, 2)]
        try:
            number = self.web.drop({f"{i}.stl": data for i, data in enumerate(files)})
        except urllib.error.HTTPError as error:
            self._refused(error)
        self.count("200")
        self.ledger.append({"what": "drop", "number": number, "scans": [hashlib.sha256(f).hexdigest() for f in files]})

    def scan(self, mesh: Mesh) -> bytes:
        """Every other one a little elsewhere, so that it has to be worked out; the rest are other cases' scans too."""
        place = np.eye(4)
        place[:3, 3] = self.rng.choice((0.0, self.rng.uniform(-5, 5)))
        return stl.write_binary(mesh.moved(place))

    def set(self, number: str) -> None:
        base = self.call("GET", f"/api/cases/{number}")["revision"]
        step, key = self.rng.choice((("base", "thickness_mm"), ("trim", "ease_mm"), ("plate", "gap_mm")))
        value = round(self.rng.uniform(1.0, 2.0), 3)
        answer = self.call("POST", f"/api/cases/{number}/settings", {"base": base, "step": step, "values": {key: value}})
        path = ["settings", step, "*", key]
        self.ledger.append({"what": "set", "number": number, "revision": answer["revision"], "path": path, "value": value})

    def mark(self, number: str) -> None:
        """Work by hand on a jaw: a stroke that goes, one of touch-up, a word about a tooth, the edge line pulled; some of it on nothing."""
        base = self.call("GET", f"/api/cases/{number}")["revision"]
        at = [[round(self.rng.uniform(-28, 28), 2), round(self.rng.uniform(-4, 45), 2), round(self.rng.uniform(-12, 2), 2)]]
        step, of, value = self.rng.choice(
            (
                ("marked", "marks", {"kind": "swab", "points_mm": at, "mm": 1.0}),
                ("marked", "marks", {"kind": "saw", "points_mm": [[0, 40, 0]], "towards": [0, 1, 0]}),
                ("touch", "strokes", {"kind": "smooth", "points_mm": at, "radius_mm": 2.0}),
                ("teeth", "said", {"kind": "none", "at": at[0]}),
                ("edge", "pulls", {"at": at[0]}),
            )
        )
        entry = {"at": [of], "id": "", "value": value}
        body = {"base": base, "step": step, "piece": self.rng.choice(("p1", "p2")), "entries": [entry]}
        self.call("POST", f"/api/cases/{number}/settings", body)

    def undo(self, number: str) -> None:
        self.call("POST", f"/api/cases/{number}/undo", {})

    def look(self, number: str) -> None:
        self.call("POST", f"/api/cases/{number}/here", {})

    def hand_off(self, number: str) -> None:
        found = self.call("GET", f"/api/cases/{number}")
        base, ids = found["revision"], [d["id"] for d in found["doubts"] if not d["at"]]
        if ids:
            self.call("POST", f"/api/cases/{number}/doubts", {"base": base, "doubts": ids})
        self.call("POST", f"/api/cases/{number}/accept", {"base": base, "steps": _STEPS})
        self.call("POST", f"/api/cases/{number}/hand-off", {})

    def delete(self, number: str) -> None:
        if self.who == "tove":  # the lead
            self.call("DELETE", f"/api/cases/{number}")
            self.ledger.append({"what": "delete", "number": number})

    def call(self, way: str, path: str, body: Any = None) -> Any:
        try:
            said = self.web.call(way, path, body)
            self.count("200")
            return said
        except urllib.error.HTTPError as error:
            self._refused(error)
        except OSError:
            self.count("cut off")
            raise

    def _refused(self, error: urllib.error.HTTPError) -> NoReturn:
        said = json.loads(error.read() or b"{}")
        self.count(f"{error.code} {said.get('code', 'WITHOUT WORDS')}")
        raise ValueError(str(error.code)) from error

    def count(self, answer: str) -> None:
        self.answers[answer] = self.answers.get(answer, 0) + 1
