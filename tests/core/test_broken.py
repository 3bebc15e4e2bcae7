"""Every broken file gets its sentence, by the readers and by ./bench run."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
import tracemalloc
import unittest
from pathlib import Path

from django.test import tag

from bitecore.errors import UnreadableFile
from bitecore.files import Limits, read_mesh, unpack
from tests.broken import BROKEN

ROOT = Path(__file__).resolve().parents[2]


class BrokenTest(unittest.TestCase):
    def test_at_least_twenty_five_kinds(self) -> None:
        self.assertGreaterEqual(len(BROKEN), 25)

    def test_each_is_one_sentence_that_names_the_file_and_says_what_to_do(self) -> None:
        for name, data in BROKEN.items():
            with self.subTest(name):
                start = time.monotonic()
                tracemalloc.start()
                with self.assertRaises(UnreadableFile) as caught:
                    for source in unpack(name, data, Limits()):
                        read_mesh(source.name, source.data, Limits())
                _, most = tracemalloc.get_traced_memory()
                tracemalloc.stop()
                message = caught.exception.message
                self.assertTrue(message.endswith("."), message)
                self.assertIn("“", message)
                self.assertGreater(len(message.split()), 6, message)
                # Nothing is made in proportion to what a file only claims to hold.
                self.assertLess(most, 60_000_000, name)
                self.assertLess(time.monotonic() - start, 5, name)

    @tag("long")
    def test_bench_run_says_the_same_and_ends_with_2(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for name in ("cut-in-the-middle.stl", "leads-out.zip", "nodes-in-a-ring.glb"):
                path = Path(folder) / name
                path.write_bytes(BROKEN[name])
                done = subprocess.run(
                    [sys.executable, "-m", "benchrun", str(path), "--out", str(Path(folder) / "out")],
                    cwd=ROOT / "core", capture_output=True, text=True, check=False,
                )  # fmt: skip
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
                self.assertEqual(len(done.stderr.strip().splitlines()), 1, done.stderr)
