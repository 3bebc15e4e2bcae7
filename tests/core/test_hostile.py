"""Files that once made a reader loop or swell: a sentence each, soon, in a child that can only end itself."""

from __future__ import annotations

import io
import os
import resource
import signal
import tempfile
import time
import unittest
import zipfile
from pathlib import Path

import numpy as np
import trimesh

from bitecore import forkserver
from bitecore.apart import ReadingBroke, allow, apart
from bitecore.blobs import FolderBlobs
from bitecore.errors import UnreadableFile
from bitecore.files import Limits, read_mesh
from bitecore.files.numbers import numbers
from bitecore.limits import BadEnvironment
from bitecore.receiving import receive
from tests.core.test_files import zipped
from tests.hostile import GOOD, HOSTILE, bomb_zip


def spin() -> None:
    while True:
        pass


def swell() -> int:
    return len(np.ones(400_000_000))


def die() -> None:
    os.kill(os.getpid(), signal.SIGKILL)


class HostileTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        forkserver.start()

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.ready = self.folder / "ready"
        self.ready.mkdir()

    def received(self, name: str, data: bytes, **limits: int):  # noqa: ANN201
        path = self.folder / "upload"
        path.write_bytes(data)
        return receive(name, path, self.ready, Limits(**limits))

    def test_each_is_refused_with_a_sentence_and_leaves_nothing(self) -> None:
        for name, data in HOSTILE.items():
            with self.subTest(name):
                started = time.monotonic()
                found = self.received(name, data)
                # Far above what it takes (the slowest a second): a reader that loops is ended by its own limit only after 8.
                self.assertLess(time.monotonic() - started, 7.5)
                self.assertEqual(found.scans, [])
                self.assertTrue(found.refused)
                for refusal in found.refused:
                    self.assertRegex(refusal["message"], r"^.*\.$")
                self.assertEqual(list(self.ready.iterdir()), [])

    def test_the_largest_stay_within_the_memory_that_is_stated(self) -> None:
        """The most that any child of this process held at once, by the system's own account."""
        found = self.received("a.zip", bomb_zip("a.obj", 290_000_000, b"v 0.123 1.234 2.345\n"), triangles=20_000_000)
        self.assertEqual(found.refused[0]["code"], "no-triangles")
        with self.assertRaises(UnreadableFile) as caught:
            apart("big.obj", swell, limits=Limits())
        self.assertEqual(caught.exception.code, "too-much-memory")
        self.assertIn("1,000 MB", caught.exception.message)
        self.assertLess(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, 1_500_000)

    def test_a_reader_that_loops_is_ended_and_said(self) -> None:
        with self.assertRaises(UnreadableFile) as caught:
            apart("loop.ply", spin, limits=Limits(read_seconds=1))
        self.assertEqual(caught.exception.code, "too-slow")
        self.assertIn("“loop.ply” takes more than 1 s", caught.exception.message)

    def test_only_a_child_is_ended_by_its_own_limit(self) -> None:
        before = resource.getrlimit(resource.RLIMIT_CPU)
        allow(1)
        self.assertEqual(resource.getrlimit(resource.RLIMIT_CPU), before)

    def test_a_child_that_dies_is_no_fault_of_the_file(self) -> None:
        with self.assertRaises(ReadingBroke):
            apart("a.stl", die, limits=Limits())

    def test_good_ones_are_laid_ready_under_their_digest(self) -> None:
        found = self.received("set.zip", zipped(("x/u.stl", GOOD), ("bad.stl", b"?"), ("note.txt", b"hello")))
        self.assertEqual([(s.name, s.path.read_bytes()) for s in found.scans], [("x/u.stl", GOOD)])
        self.assertEqual([r["code"] for r in found.refused], ["not-a-scan", "ignored"])
        self.assertEqual(found.scans[0].path.name, found.scans[0].sha256)

    def test_sentences_can_do_without_the_name(self) -> None:
        path = self.folder / "upload"
        path.write_bytes(zipped(("Corwin.stl", b"?"), ("Pellathorn.txt", b"hello")))
        said = " ".join(r["message"] + r["file"] for r in receive("Corwin.zip", path, self.ready, Limits(), shown="file 1").refused)
        self.assertIn("file 1", said)
        self.assertNotRegex(said, "Corwin|Pellathorn")


class NumbersTest(unittest.TestCase):
    """Python's float rounds as IEEE 754-2019, section 5.12, asks; ours has to give the same bits."""

    def test_the_same_bits_as_pythons(self) -> None:
        rng = np.random.default_rng(7)
        words = [repr(float(x)) for x in rng.normal(0, 40, 20_000)]
        words += [f"{x:.{k}f}" for k in range(0, 21, 2) for x in rng.normal(0, 30, 500)]
        words += [f"{x:.{k}e}" for k in range(0, 18, 3) for x in rng.normal(0, 1e-8, 500)]
        words += ["9007199254740993", "9007199254740993.0", "0.1000000000000000055511151231257827", "18446744073709551615.5", "-0", "+3.5"]
        words += ["1e400", "1e-400", "nan", "-inf", ".5", "5.", "123456789012345678901234", "1.7976931348623157e308", "5e-324"]
        ours = numbers(" \n".join(words).encode(), len(words))
        theirs = np.array([float(w) for w in words])
        np.testing.assert_array_equal(ours.view(np.int64), theirs.view(np.int64))

    def test_what_is_none_is_refused(self) -> None:
        for text in (b"1 2", b"1 2 x", b"1 2 3x", b"1 2 1_0", b"1 2 --3", b"1 2 .", b"1 2 e5"):
            with self.assertRaises(ValueError, msg=text):
                numbers(text, 3)


class OtherWritersTest(unittest.TestCase):
    """3MF as others may write it: the quick way and the XML parser have to agree."""

    def test_quick_way_and_parser_agree(self) -> None:
        ball = trimesh.creation.icosphere(2, 5.0)
        data = ball.export(file_type="3mf")
        quick = read_mesh("a.3mf", data).points
        parts = {}
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            for name in package.namelist():
                parts[name] = package.read(name)
        model = next(n for n in parts if n.endswith(".model"))
        plain = parts[model]
        variants = {
            "a comment": plain.replace(b"<resources>", b"<!-- by hand --><resources>", 1),
            "content between": plain.replace(b" /></vertices>", b"></vertex></vertices>", 1).replace(
                b"/></vertices>", b"></vertex></vertices>", 1
            ),
            "other quotes": plain.replace(b'x="', b"x = '", 1).replace(b'" y=', b"' y=", 1),
            "more attributes": plain.replace(b"<triangle ", b'<triangle pid="1" p1="0" '),
            "utf-16": plain.decode().replace("utf-8", "utf-16").encode("utf-16"),
        }
        for what, text in variants.items():
            with self.subTest(what):
                again = read_mesh("a.3mf", zipped(*(parts | {model: text}).items())).points
                np.testing.assert_array_equal(quick, again)


class LimitsTest(unittest.TestCase):
    def test_the_environment_is_read_with_care(self) -> None:
        self.assertEqual(Limits.of({"BENCH_TRIANGLES": " 2000 "}).triangles, 2000)
        for text in ("many", "-1", "1e6", "0", "99999999999999999999", "٣٣٣٣"):
            with self.assertRaises(BadEnvironment) as caught:
                Limits.of({"BENCH_TRIANGLES": text})
            self.assertIn("BENCH_TRIANGLES takes a whole number", str(caught.exception))

    def test_a_reference_is_a_digest_and_nothing_else(self) -> None:
        blobs = FolderBlobs(Path("/tmp/nowhere"))
        for wrong in ("/etc/passwd", "../../etc/passwd", "", "A" * 64, "0" * 63, "0" * 64 + "\n", None, 7):
            with self.assertRaises(ValueError, msg=repr(wrong)):
                blobs.read(wrong)  # type: ignore[arg-type]
