"""The stand-in printer by itself: what it takes, what it refuses, how time passes, and what faults do."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import http.client
import io
import json
import socket
import time
import unittest
import zipfile
from typing import Any
from urllib.parse import urlsplit

from PIL import Image

from tests.printer import Printer

SECONDS, AREA = [30.0, 30.0, 7.5, 7.5, 7.5], 400.0


def layers_zip(**changed: Any) -> bytes:
    """Five layers of 0.05 mm, 20 × 20 mm each."""
    rows = [{"file": f"{k:05d}.png", "z_mm": [k * 0.05, (k + 1) * 0.05], "area_mm2": AREA, "seconds": s} for k, s in enumerate(SECONDS)]
    says = {"format": 1, "size_px": [64, 48], "layers": rows} | changed
    out, picture = io.BytesIO(), io.BytesIO()
    Image.new("1", (64, 48), 1).save(picture, "PNG")
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("layers.json", json.dumps(says))
        for row in rows:
            archive.writestr(row["file"], picture.getvalue())
    return out.getvalue()


class StandInTest(unittest.TestCase):
    def setUp(self) -> None:
        self.printer = Printer()
        self.addCleanup(self.printer.close)

    def ask(self, method: str, path: str, body: bytes = b"", **headers: str) -> tuple[int, dict[str, Any]]:
        link = http.client.HTTPConnection(urlsplit(self.printer.url).netloc, timeout=5)
        try:
            kind = {"Content-Type": "application/json"} if method == "POST" and body else {}
            link.request(method, path, body, kind | headers)
            answer = link.getresponse()
            return answer.status, json.loads(answer.read())
        finally:
            link.close()

    def put(self, name: str, data: bytes, of: bytes | None = None) -> tuple[int, dict[str, Any]]:
        digest = base64.b64encode(hashlib.sha256(data if of is None else of).digest()).decode()
        return self.ask("PUT", f"/jobs/{name}", data, **{"Content-Digest": f"sha-256=:{digest}:"})

    def test_a_plate_is_printed_in_the_time_its_layers_take(self) -> None:
        data = layers_zip()
        status, said = self.put("2611-01_1", data)
        self.assertEqual((status, said["sha256"], said["bytes"]), (201, hashlib.sha256(data).hexdigest(), len(data)))
        self.assertEqual(self.ask("POST", "/jobs/2611-01_1/start")[1]["state"], "printing")
        self.printer.let_pass(61.0)
        _, now = self.ask("GET", "/jobs/2611-01_1")
        self.assertEqual((now["layer"], now["layers"], now["seconds_left"]), (2, 5, sum(SECONDS) - 61))
        self.printer.let_pass(21.5)
        _, now = self.ask("GET", "/")
        self.assertEqual((now["state"], now["jobs"][0]["state"], now["jobs"][0]["layer"]), ("idle", "done", 5))
        self.assertAlmostEqual(now["resin_ml"], 1000 - 5 * AREA * 0.05 / 1000, places=6)

    def test_what_arrives_otherwise_or_in_part_is_not_there(self) -> None:
        data = layers_zip()
        self.assertEqual(self.put("a", data, of=b"other")[1]["code"], "not-what-was-sent")
        self.printer.break_after(100)
        with self.assertRaises((OSError, http.client.HTTPException)):
            self.put("a", data)
        self.assertEqual(self.ask("GET", "/jobs/a")[0], 404)
        self.assertEqual(self.put("a", data)[0], 201)
        self.assertEqual([p.name for p in self.printer.folder.glob("*.part")], [])

    def wait_for(self, path: str) -> None:
        """Until it is there. Connections are served by threads: the one that came first need not be heard first."""
        until = time.monotonic() + 20
        while self.ask("GET", path)[0] != 200:
            self.assertLess(time.monotonic(), until, path)
            time.sleep(0.01)

    def rest(self, name: str, data: bytes, begin: int, whole: bytes) -> tuple[int, dict[str, Any]]:
        """Partial PUT (RFC 9110 14.5) with the hash of the whole (RFC 9530)."""
        digest = base64.b64encode(hashlib.sha256(whole).digest()).decode()
        span = f"bytes {begin}-{begin + len(data) - 1}/{len(whole)}"
        return self.ask("PUT", f"/jobs/{name}", data, **{"Content-Range": span, "Repr-Digest": f"sha-256=:{digest}:"})

    def test_what_broke_off_goes_on_from_there(self) -> None:
        data = layers_zip()
        part = f"/parts/{hashlib.sha256(data).hexdigest()}"
        self.assertEqual(self.ask("GET", part)[0], 404)
        for so_far in (100, 250):
            self.printer.break_after(so_far if so_far == 100 else 150)
            with self.assertRaises((OSError, http.client.HTTPException)):
                self.put("a", data) if so_far == 100 else self.rest("a", data[100:], 100, data)
            self.assertEqual(self.ask("GET", part)[1]["bytes"], so_far)
        self.printer.switched_off_and_on()
        for begin in (249, 251):
            self.assertEqual(self.rest("a", data[begin:], begin, data)[1]["code"], "other-part")
        # Under whichever name: what it is, its hash says.
        status, said = self.rest("b", data[250:], 250, data)
        self.assertEqual((status, said["sha256"], said["bytes"]), (201, hashlib.sha256(data).hexdigest(), len(data)))
        self.assertEqual(self.ask("GET", part)[0], 404)

    def test_a_rest_that_is_another_is_not_kept(self) -> None:
        data = layers_zip()
        self.printer.break_after(100)
        with self.assertRaises((OSError, http.client.HTTPException)):
            self.put("a", data)
        self.assertEqual(self.rest("a", b"x" * len(data[100:]), 100, data)[1]["code"], "not-what-was-sent")
        self.assertEqual(self.rest("a", data[100:], 100, data)[1]["code"], "other-part")
        self.assertEqual(self.put("a", data)[0], 201)

    def test_headers_that_do_not_fit_are_refused(self) -> None:
        data = layers_zip()
        digest = f"sha-256=:{base64.b64encode(hashlib.sha256(data).digest()).decode()}:"
        for headers in (
            {"Content-Range": "bytes 0-9"},
            {"Content-Range": f"bytes 5-{len(data)}/{len(data)}", "Repr-Digest": digest},
            {"Content-Range": f"bytes 0-{len(data) - 1}/{len(data)}", "Content-Digest": digest},
            {"Repr-Digest": "sha-256=:short:"},
            {},
        ):
            status, said = self.ask("PUT", "/jobs/a", data, **headers)
            self.assertEqual((status, said["message"][-1]), (400, "."), headers)

    def test_a_hung_connection_is_taken_over(self) -> None:
        data = layers_zip()
        where = urlsplit(self.printer.url)
        digest = base64.b64encode(hashlib.sha256(data).digest()).decode()
        with socket.create_connection((where.hostname or "", where.port or 0), timeout=5) as hung:
            head = f"PUT /jobs/a HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: {len(data)}\r\nRepr-Digest: sha-256=:{digest}:\r\n\r\n"
            hung.sendall(head.encode() + data[:300])
            self.wait_for(f"/parts/{hashlib.sha256(data).hexdigest()}")
            self.assertEqual(self.put("a", data)[0], 201)
            with contextlib.suppress(OSError):
                hung.sendall(data[300:])
                self.assertEqual(hung.recv(100), b"")
        self.assertEqual(self.ask("GET", "/jobs/a")[1]["sha256"], hashlib.sha256(data).hexdigest())

    def test_parts_of_files_that_were_given_up_do_not_heap_up(self) -> None:
        for k in range(7):
            self.printer.break_after(100)
            with self.assertRaises((OSError, http.client.HTTPException)):
                self.put("a", layers_zip(printer=f"n{k}"))
        self.assertEqual(len(list(self.printer.folder.glob("*.part"))), 4)

    def test_paused_it_waits_whatever_happens_and_goes_on_at_its_layer(self) -> None:
        self.put("a", layers_zip())
        self.assertEqual(self.ask("POST", "/jobs/a/pause")[1]["code"], "not-printing")
        self.ask("POST", "/jobs/a/start")
        self.printer.let_pass(35)
        self.assertEqual(self.ask("POST", "/jobs/a/pause")[1]["state"], "paused")
        self.printer.let_pass(500)
        self.ask("POST", "/fault", b'{"kind": "door"}')
        self.ask("POST", "/fault", b'{"kind": "none"}')
        self.printer.let_pass(500)
        self.printer.switched_off_and_on()
        _, now = self.ask("GET", "/")
        self.assertEqual((now["state"], now["says"], now["job"]["layer"]), ("stopped", "It is paused.", 1))
        self.ask("POST", "/jobs/a/resume")
        self.printer.let_pass(30)
        self.assertEqual(self.ask("GET", "/jobs/a")[1]["layer"], 2)
        self.ask("POST", "/jobs/a/pause")
        self.assertEqual(self.ask("POST", "/jobs/a/cancel")[1]["state"], "cancelled")

    def test_wrong_files_are_refused_with_a_sentence(self) -> None:
        for data in (
            b"no zip",
            layers_zip(format=2),
            layers_zip(size_px=[1, 1]),
            layers_zip(layers=[]),
            layers_zip(layers=[{"file": "x"}]),
        ):
            status, said = self.put("a", data)
            self.assertEqual((status, said["code"]), (422, "unreadable"))
            self.assertTrue(said["message"].endswith("."))
        self.assertEqual(self.ask("PUT", "/jobs/a", b"")[1]["code"], "no-length")
        self.assertEqual(self.ask("PUT", "/jobs/..%2Fa", b"x")[0], 404)
        self.assertEqual(self.ask("POST", "/jobs/none/start")[0], 404)
        self.assertEqual(self.ask("POST", "/fault", b'{"kind": "fire"}')[0], 422)
        self.assertEqual(self.ask("POST", "/fault", b"[1]")[0], 422)
        self.assertEqual(self.ask("POST", "/bottle", b'{"ml": NaN}')[0], 422)

    def test_a_page_of_somebody_else_in_a_browser_does_not_speak_to_it(self) -> None:
        door = b'{"kind": "door"}'
        self.assertEqual(self.ask("POST", "/fault", door, **{"Content-Type": "text/plain"})[0], 415)
        self.assertEqual(self.ask("POST", "/fault", door, Origin="http://elsewhere.example")[0], 403)
        self.assertEqual(self.ask("GET", "/", Host="elsewhere.example")[0], 403)
        self.assertEqual(self.ask("GET", "/")[1]["state"], "idle")

    def test_the_same_again_is_known_another_under_its_name_is_not_taken(self) -> None:
        self.put("a", layers_zip())
        self.assertEqual(self.put("a", layers_zip())[0], 201)
        self.assertEqual(self.put("a", layers_zip(printer="x"))[1]["code"], "name-taken")
        self.put("b", layers_zip(printer="x"))
        self.ask("POST", "/jobs/a/start")
        self.assertEqual(self.ask("POST", "/jobs/b/start")[1]["code"], "busy")
        self.assertEqual(self.ask("DELETE", "/jobs/a")[1]["code"], "busy")
        self.assertEqual(self.ask("POST", "/jobs/a/cancel")[1]["state"], "cancelled")
        self.assertEqual(self.ask("POST", "/jobs/b/start")[1]["state"], "printing")
        self.assertEqual(self.ask("DELETE", "/jobs/a")[0], 200)

    def test_an_open_door_and_an_empty_bottle_hold_it_and_it_goes_on_there(self) -> None:
        self.put("a", layers_zip())
        self.ask("POST", "/jobs/a/start")
        self.printer.let_pass(40)
        self.assertEqual(self.ask("POST", "/fault", b'{"kind": "door"}')[1]["says"], "The door is open.")
        self.printer.let_pass(500)
        _, now = self.ask("GET", "/jobs/a")
        self.assertEqual((now["state"], now["layer"]), ("stopped", 1))
        self.ask("POST", "/fault", b'{"kind": "none"}')
        self.printer.let_pass(20)
        self.assertEqual(self.ask("GET", "/jobs/a")[1]["layer"], 2)
        self.assertEqual(self.ask("POST", "/fault", b'{"kind": "resin"}')[1]["fault"], "resin")
        self.printer.let_pass(500)
        self.assertEqual(self.ask("GET", "/")[1]["state"], "stopped")
        self.ask("POST", "/bottle", b'{"ml": 500}')
        self.printer.let_pass(22.5)
        self.assertEqual(self.ask("GET", "/jobs/a")[1]["state"], "done")

    def test_switched_off_in_the_middle_it_goes_on_at_the_layer(self) -> None:
        self.put("a", layers_zip())
        self.ask("POST", "/jobs/a/start")
        self.printer.let_pass(35)
        self.ask("GET", "/")
        self.printer.switched_off_and_on()
        self.assertEqual(self.ask("GET", "/jobs/a")[1]["layer"], 1)
        self.printer.let_pass(60)
        self.assertEqual(self.ask("GET", "/jobs/a")[1]["state"], "done")
