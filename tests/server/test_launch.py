"""./bench itself: what it says when something is missing, and the database cluster of its own."""

from __future__ import annotations

import contextlib
import io
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from launch import install, say, up
from launch.__main__ import main
from launch.database import Cluster
from launch.say import ROOT, Fail, Misread


class SayTest(unittest.TestCase):
    def failed(self, output: str, status: int = 1) -> str:
        with self.assertRaises(Fail) as caught:
            say.run([sys.executable, "-c", f"print({output!r}); raise SystemExit({status})"], "It could not be done")
        return str(caught.exception)

    def test_no_network_and_a_full_disk_are_told_apart(self) -> None:
        self.assertIn("there is no network", self.failed("Temporary failure in name resolution"))
        self.assertIn("the disk is full", self.failed("OSError: [Errno 28] No space left on device"))
        self.assertIn("It could not be done.\n  something else", self.failed("something else"))

    def test_a_program_that_is_missing(self) -> None:
        with self.assertRaises(Fail) as caught:
            say.run(["/nowhere/tool"], "The page could not be built")
        self.assertIn("the program /nowhere/tool is missing", str(caught.exception))

    def test_failures_are_one_sentence_on_standard_error(self) -> None:
        err = io.StringIO()

        def fails() -> int:
            raise Fail("Port 1 is taken.")

        with contextlib.redirect_stderr(err):
            self.assertEqual(say.main_guard(fails), 1)
        self.assertEqual(err.getvalue(), "Bite Bench: Port 1 is taken.\n")

    def test_a_word_it_does_not_know(self) -> None:
        old = sys.argv
        sys.argv = ["bench", "polish"]
        try:
            with self.assertRaises(Fail) as caught:
                main()
        finally:
            sys.argv = old
        self.assertIn("there is no ./bench polish", str(caught.exception))
        self.assertIn("./bench up", str(caught.exception))

    def test_missing_packages_without_the_right_to_install(self) -> None:
        old = os.geteuid
        os.geteuid = lambda: 1000  # type: ignore[assignment]
        path = os.environ["PATH"]
        tools = tempfile.mkdtemp()
        try:
            (Path(tools) / "apt-get").symlink_to("/bin/true")
            os.environ["PATH"] = tools
            with self.assertRaises(Fail) as caught:
                install.debian({"some-package": "/nowhere/at/all"})
        finally:
            os.environ["PATH"] = path
            os.geteuid = old  # type: ignore[assignment]
            shutil.rmtree(tools)
        self.assertIn("some-package", str(caught.exception))
        self.assertIn("install sudo", str(caught.exception))


class MisreadTest(unittest.TestCase):
    """Words and surroundings that cannot be meant: one sentence, exit status 2, and never a trace."""

    def said(self, *words: str, **environment: str) -> str:
        env = {**os.environ, **environment}
        done = subprocess.run([str(ROOT / "bench"), *words], env=env, capture_output=True, text=True, stdin=subprocess.DEVNULL, check=False)
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        self.assertRegex(done.stderr, r"^Bite Bench: [^\n]+\.\n$")
        return done.stderr

    def test_ports(self) -> None:
        for port in ("many", "-1", "0", "99999", "1e3", "8421.5", "٨٤٢١"):
            self.assertIn("whole number from 1 to 65,535", self.said("up", "--port=" + port))
            self.assertIn("whole number from 1 to 65,535", self.said("up", BENCH_PORT=port))

    def test_where_printers_answer(self) -> None:
        for text in ("lots", "wren=", "wren=ftp://a:1", "wren=http://a", "=http://a:1", "wren=http://a:port"):
            self.assertIn("BENCH_PRINTERS is written like", self.said("up", BENCH_PRINTERS=text))

    def test_limits_and_database(self) -> None:
        for variable in (
            "BENCH_TRIANGLES",
            "BENCH_DROP_BYTES",
            "BENCH_READ_SECONDS",
            "BENCH_READ_BYTES",
            "BENCH_DISK_LOW_MB",
        ):
            self.assertIn(f"{variable} takes a whole number", self.said("up", **{variable: "lots"}))
        self.assertIn("DATABASE_URL cannot be read", self.said("up", DATABASE_URL="postgresql://x@y:port/z"))

    def test_a_state_folder_that_cannot_be_written(self) -> None:
        for folder in ("/proc/bitebench", "/dev/null", "/sys/kernel/bitebench"):
            self.assertIn("BENCH_STATE", self.said("up", BENCH_STATE=folder))

    def test_an_account_without_a_name(self) -> None:
        self.assertIn("./bench lead NAME", self.said("lead"))


class GuardedTest(unittest.TestCase):
    def test_what_is_kept_is_for_its_owner_only(self) -> None:
        before = os.umask(0o022)
        try:
            with tempfile.TemporaryDirectory() as folder:
                state = Path(folder) / "state"
                (state / "logs").mkdir(parents=True)
                (state / "logs" / "web.log").write_text("x")
                up.guarded(state)
                (state / "blobs" / "scan").write_bytes(b"x")
                modes = {p.relative_to(state).as_posix(): p.stat().st_mode & 0o077 for p in state.rglob("*")}
                self.assertEqual({name for name, mode in modes.items() if mode}, set())
                self.assertEqual(state.stat().st_mode & 0o066, 0)
        finally:
            os.umask(before)


class OneTest(unittest.TestCase):
    def test_a_second_one_on_the_same_state_is_refused_with_a_sentence(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            first = up.only_one(Path(folder))
            with self.assertRaisesRegex(Misread, "is up on .* already"):
                up.only_one(Path(folder))
            first.close()
            up.only_one(Path(folder)).close()


class WatchdogTest(unittest.TestCase):
    def test_a_web_server_that_hangs_is_ended_and_started_again(self) -> None:
        """It takes connections and never answers, as one does whose threads are all held."""
        hangs = socket.socket()
        hangs.bind(("127.0.0.1", 0))
        hangs.listen(50)
        self.addCleanup(hangs.close)
        with tempfile.TemporaryDirectory() as folder:
            web = up.Watched("web server", ["sleep", "60"], dict(os.environ), Path(folder) / "log")
            web.start()
            self.addCleanup(web.stop)
            dog = up.Watchdog(f"http://127.0.0.1:{hangs.getsockname()[1]}", web, patience_s=1.0, every_s=0.0)
            with mock.patch.object(up, "say") as said, mock.patch.object(up, "_ANSWER_S", 0.3):
                end = time.monotonic() + 30
                while not dog.look() and time.monotonic() < end:
                    time.sleep(0.05)
            self.assertIn("has not answered", said.call_args.args[0])
            self.assertIsNotNone(web.process.poll() if web.process else None)


class PortTest(unittest.TestCase):
    def test_a_taken_port_is_said_and_the_next_is_used(self) -> None:
        with socket.socket() as taken, contextlib.redirect_stdout(io.StringIO()) as out:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = taken.getsockname()[1]
            self.assertNotEqual(up._port(port), port)
        self.assertIn(f"Port {port} is taken", out.getvalue())


class WatchTest(unittest.TestCase):
    def test_what_ends_is_started_again_and_all_is_stopped(self) -> None:
        with tempfile.TemporaryDirectory() as folder, contextlib.redirect_stdout(io.StringIO()) as out:
            command = [sys.executable, "-c", "import time; time.sleep(60)"]
            watched = up.Watched("worker", command, dict(os.environ), Path(folder) / "log")
            watched.start()
            assert watched.process
            first = watched.process.pid
            os.kill(first, signal.SIGKILL)
            watched.process.wait()
            watched.check()
            self.assertNotEqual(watched.process.pid, first)
            self.assertIn("The worker ended (-9) and is started again", out.getvalue())
            watched.stop()
            self.assertIsNotNone(watched.process.poll())


@unittest.skipUnless(os.environ.get("BENCH_TEST_CLUSTER"), "a database was given: no cluster of our own")
class ClusterTest(unittest.TestCase):
    """A cluster made, stopped, killed and started again where it was."""

    def setUp(self) -> None:
        # PostgreSQL runs as user postgres under root: the folder must be one it can reach.
        self.folder = Path(tempfile.mkdtemp(prefix="bench-cluster-"))
        self.folder.chmod(0o755)
        self.cluster = Cluster(self.folder / "pg")
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.addCleanup(self.cluster.stop)

    def ask(self, url: str) -> str:
        import psycopg

        with psycopg.connect(url) as link:
            return str(link.execute("show listen_addresses").fetchone()[0])  # type: ignore[index]

    def test_from_nothing_through_a_kill_to_the_same_address(self) -> None:
        with contextlib.redirect_stdout(io.StringIO()):
            url = self.cluster.start()
        self.assertEqual(self.ask(url), "127.0.0.1")
        self.assertTrue(self.cluster.mine)
        again = Cluster(self.folder / "pg")
        self.assertEqual(again.start(), url)
        self.assertFalse(again.mine)  # who finds it running does not stop it
        live = self.cluster.running()
        assert live
        os.kill(live[0], signal.SIGKILL)
        end = time.monotonic() + 60
        while self.cluster.running() and time.monotonic() < end:
            time.sleep(0.1)
        self.assertEqual(self.cluster.start(), url)
        self.assertEqual(self.ask(url), "127.0.0.1")
        self.cluster.stop()
        self.assertIsNone(self.cluster.running())

    def test_its_own_port_is_waited_for_and_a_new_one_is_told(self) -> None:
        with contextlib.redirect_stdout(io.StringIO()):
            url = self.cluster.start()
            port = self.cluster.running()[1]  # type: ignore[index]
            self.cluster.stop()
            with socket.socket() as other:
                other.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                other.bind(("127.0.0.1", port))
                other.listen()
                timer = threading.Timer(1.0, other.close)
                timer.start()
                # Freed after a second: the same address again.
                self.assertEqual(self.cluster.start(wait_s=20), url)
                timer.join()
            self.cluster.stop()
            with socket.socket() as other, tempfile.TemporaryDirectory() as folder:
                other.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                other.bind(("127.0.0.1", port))
                other.listen()
                moved = self.cluster.start(wait_s=0.5)
                self.assertNotEqual(moved, url)
                # Not freed: whoever knows the old address is started again with the new one.
                out = Path(folder) / "log"
                command = [sys.executable, "-c", "import os,time; print(os.environ['DATABASE_URL'], flush=True); time.sleep(60)"]
                watched = up.Watched("web server", command, {**os.environ, "DATABASE_URL": url}, out)
                watched.start()
                up.tell([watched], moved)
                end = time.monotonic() + 60
                while moved not in out.read_text() and time.monotonic() < end:
                    time.sleep(0.05)
                watched.stop()
                self.assertIn(moved, out.read_text())

    def test_no_password_among_the_arguments_of_a_process(self) -> None:
        with contextlib.redirect_stdout(io.StringIO()):
            self.cluster.start()
        secret, seen = self.cluster.secret.read_text(), list[bytes]()
        ended = threading.Event()

        def look() -> None:
            while not ended.is_set():
                for path in Path("/proc").glob("[0-9]*/cmdline"):
                    with contextlib.suppress(OSError):
                        seen.append(path.read_bytes())

        thread = threading.Thread(target=look)
        thread.start()
        given = os.environ.pop("DATABASE_URL")
        (self.folder / "other").mkdir()
        (self.folder / "other").chmod(0o755)
        try:
            up.database(self.folder / "other")
            other = Cluster(self.folder / "other" / "postgres")
            self.addCleanup(other.stop)
        finally:
            os.environ["DATABASE_URL"] = given
            ended.set()
            thread.join()
        secrets = [s.encode() for s in (secret, other.secret.read_text())]
        self.assertTrue(seen and not any(s in line for s in secrets for line in seen))

    def test_a_stranger_without_the_word_is_not_let_in(self) -> None:
        import psycopg

        with contextlib.redirect_stdout(io.StringIO()):
            url = self.cluster.start()
        with self.assertRaises(psycopg.OperationalError):
            psycopg.connect(url.replace(self.cluster.secret.read_text(), "wrong"))
        mode = subprocess.run(["stat", "-c", "%a", str(self.cluster.secret)], capture_output=True, text=True).stdout.strip()
        self.assertEqual(mode, "600")
