"""The launcher: plain messages, a clean stop, folders of its own, nothing done twice."""

import os
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import mock

from django.test import SimpleTestCase

import zubret
from tests.program import ProgramTest
from tests.support import ROOT, demo_game


def launched(*arguments: str, **variables: str) -> subprocess.CompletedProcess:
    env = {**os.environ, **variables}
    return subprocess.run(
        [sys.executable, "zubret.py", *arguments], cwd=ROOT, env=env, capture_output=True, text=True, timeout=60
    )


class Messages(SimpleTestCase):
    """Each is one sentence on standard error, and a code that is not 0."""

    def told(self, done: subprocess.CompletedProcess) -> str:
        self.assertNotEqual(done.returncode, 0)
        self.assertNotIn("Traceback", done.stderr)
        return done.stderr

    def test_a_port_in_use(self):
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = str(taken.getsockname()[1])
            for command in ("run", "demo"):
                told = self.told(launched(command, ZUBRET_PORT=port))
                self.assertIn(f"port {port} is in use. Set ZUBRET_PORT", told)
        self.assertIn("must be a number", self.told(launched("run", ZUBRET_PORT="http")))

    def test_a_data_folder_that_can_not_be_used(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        (folder / "file").write_text("no folder")
        told = self.told(launched("run", ZUBRET_DATA_DIR=str(folder / "file")))
        self.assertIn(
            f"the data folder {folder}/file/run can't be written to (Not a directory). Set ZUBRET_DATA_DIR", told
        )
        (folder / "run").mkdir()
        (folder / "run" / "zubret.sqlite3").write_bytes(b"no database, but long enough to be taken for one" * 50)
        # The files of its mods are not taken for those of the new one, whose numbers begin anew.
        (folder / "run" / "mods" / "1" / "sources").mkdir(parents=True)
        (folder / "run" / "mods" / "1" / "sources" / "tune.wav").write_bytes(b"a tune")
        env = {**os.environ, "ZUBRET_DATA_DIR": str(folder / "run")}
        told = [
            subprocess.run([sys.executable, "manage.py", "prepare"], cwd=ROOT, env=env, check=True, capture_output=True)
            for _ in range(2)
        ]
        self.assertIn(b"The database was damaged; it is set aside in", told[0].stdout)
        self.assertEqual((told[1].stdout, len(list((folder / "run").glob("zubret damaged *.sqlite3")))), (b"", 1))
        self.assertEqual([p.read_bytes() for p in (folder / "run").glob("left */mods/1/sources/tune.wav")], [b"a tune"])
        self.assertFalse((folder / "run" / "mods").exists())

    def test_what_was_made_survives_a_damaged_database(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        (folder / "library" / "game").mkdir(parents=True)
        shutil.copy(demo_game() / "data/deck.zip", folder / "library" / "game")
        env = {**os.environ, "ZUBRET_DATA_DIR": str(folder), "ZUBRET_LIBRARY_ROOTS": str(folder / "library"),
               "DJANGO_SETTINGS_MODULE": "server.settings", "ZUBRET_JOBS": "at once"}  # fmt: skip

        def run(*arguments: str) -> str:
            done = subprocess.run([sys.executable, *arguments], cwd=ROOT, env=env, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stderr)
            return done.stdout

        begin = (
            "import django; django.setup(); from server.home.journal import keep; from server.shelf.models import *; "
        )
        begin += "from server.games.models import *; from server.mods.models import *; "
        made = "g = Game.objects.get(); s = Stream.objects.first(); Given.objects.create(game=g, locator=s.locator, name='Tide'); "
        made += "Key.objects.create(game=g, label='k', secret='00'); m = Mod.objects.get(); "
        made += "Swap.objects.create(mod=m, locator=s.locator, source_name='x', source_path='/x', state='preparing', treatment={}); "
        tell = "print(Game.objects.get().name, Given.objects.get().name, Key.objects.get().secret, Swap.objects.get().state, "
        tell += "Game.objects.get().current_survey().streams)"
        run("manage.py", "prepare")
        run("manage.py", "register_game", str(folder / "library" / "game"), "--name", "Harbour")
        self.assertEqual(
            run("-c", begin + made + "print(keep(), keep()); " + tell), "True False\nHarbour Tide 00 preparing 5\n"
        )
        for damage in ("overwrite", "remove"):
            for part in folder.glob("zubret.sqlite3-*"):
                part.unlink()
            place = folder / "zubret.sqlite3"
            place.write_bytes(b"no database any more " * 500) if damage == "overwrite" else place.unlink()
            (folder / "mods" / "1").mkdir(parents=True, exist_ok=True)
            told = run("manage.py", "prepare")
            self.assertIn("of 1 game are back; the games are surveyed anew", told)
            self.assertTrue((folder / "mods" / "1").is_dir())
            self.assertEqual(run("-c", begin + tell), "Harbour Tide 00 failed 5\n")
        self.assertIn("True", run("-c", begin + "Given.objects.update(name='Ebb'); print(keep())"))

    def test_a_database_of_an_earlier_version_is_copied_and_brought_up_to_date(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        env = {**os.environ, "ZUBRET_DATA_DIR": str(folder)}
        for arguments in (("migrate", "--verbosity=0", "jobs", "0001"), ("prepare",), ("prepare",)):
            subprocess.run([sys.executable, "manage.py", *arguments], cwd=ROOT, env=env, check=True)
        copies = list(folder.glob("zubret before *.sqlite3"))
        self.assertEqual(len(copies), 1)
        for place, column in ((copies[0], "lease_until"), (folder / "zubret.sqlite3", "worker")):
            with sqlite3.connect(place) as base:
                self.assertIn(column, {row[1] for row in base.execute("PRAGMA table_info(jobs_job)")})
            base.close()

    def test_commands_that_are_none(self):
        self.assertIn("invalid choice", self.told(launched("fly")))
        self.assertIn("takes no arguments", self.told(launched("run", "quickly")))

    def test_node_is_missing_or_too_old(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        with mock.patch.dict(os.environ, {"PATH": str(folder)}), self.assertRaises(SystemExit) as caught:
            zubret.npm()
        self.assertIn("Node.js 20.19 or later is needed", str(caught.exception))
        for name in ("node", "npm"):
            (folder / name).write_text("#!/bin/sh\necho v18.4.0\n")
            (folder / name).chmod(0o755)
        with mock.patch.dict(os.environ, {"PATH": str(folder)}), self.assertRaises(SystemExit) as caught:
            zubret.npm()
        self.assertIn("v18.4.0 is too old", str(caught.exception))

    def test_python_is_too_old(self):
        with mock.patch.object(sys, "version_info", (3, 10, 2)), self.assertRaises(SystemExit) as caught:
            zubret.main()
        self.assertIn("3.11 or later is needed", str(caught.exception))


class Folders(SimpleTestCase):
    def test_where_the_data_is_kept_on_each_system(self):
        with mock.patch.dict(os.environ, {"ZUBRET_DATA_DIR": "/chosen/place"}):
            self.assertEqual(zubret.data_home(), Path("/chosen/place"))
        cleared = {"ZUBRET_DATA_DIR": "", "XDG_DATA_HOME": "", "HOME": "/home/modder", "LOCALAPPDATA": "/local"}
        with mock.patch.dict(os.environ, cleared):
            self.assertEqual(zubret.data_home(), Path("/home/modder/.local/share/zubret"))
            with mock.patch.object(sys, "platform", "darwin"):
                self.assertEqual(zubret.data_home().name, "Zubret")
                self.assertIn("Application Support", str(zubret.data_home()))

    def test_settings_write_nothing(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        env = {**os.environ, "ZUBRET_DATA_DIR": str(folder / "new"), "DJANGO_SETTINGS_MODULE": "server.settings"}
        subprocess.run([sys.executable, "-c", "import django; django.setup()"], cwd=ROOT, env=env, check=True)
        self.assertEqual(list(folder.iterdir()), [])

    def test_library_roots_are_honoured_beside_the_demo_s(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        with mock.patch.dict(os.environ, {"ZUBRET_LIBRARY_ROOTS": "/games"}):
            demo = zubret.environment(folder / "demo", [folder / "demo"])
            run = zubret.environment(folder / "run")
        self.assertEqual(demo["ZUBRET_LIBRARY_ROOTS"], f"{folder / 'demo'}{os.pathsep}/games")
        self.assertEqual(run["ZUBRET_LIBRARY_ROOTS"], "/games")
        self.assertNotEqual(demo["ZUBRET_DATA_DIR"], run["ZUBRET_DATA_DIR"])

    def test_work_is_done_again_only_when_its_sources_change(self):
        folder = Path(tempfile.mkdtemp(dir=ROOT / "tests"))
        self.addCleanup(shutil.rmtree, folder)
        (folder / "a.ts").write_text("one")
        first = zubret.digest_of([folder])
        stamp = folder.parent / f"{folder.name}.stamp"
        stamp.write_text(first)
        self.addCleanup(stamp.unlink)
        self.assertTrue(zubret.is_current(stamp, zubret.digest_of([folder])))
        (folder / "a.ts").write_text("two")
        self.assertFalse(zubret.is_current(stamp, zubret.digest_of([folder])))
        (folder / "a.ts").rename(folder / "b.ts")
        (folder / "b.ts").write_text("one")
        self.assertNotEqual(zubret.digest_of([folder]), first)

    def test_kernels_of_another_version_are_not_kept(self):
        folder = Path(tempfile.mkdtemp()).resolve()
        self.addCleanup(shutil.rmtree, folder)
        theirs, ours = folder / "theirs" / "kernel.nbi", folder / "compiled" / "kernel.nbi"
        for file in (theirs, ours):
            file.parent.mkdir()
            file.write_text("of another version")
        with mock.patch.dict(os.environ, {"ZUBRET_DATA_DIR": str(folder)}), mock.patch.object(zubret, "command") as run:
            for file in (theirs, ours, ours):
                zubret.compile_decoders({"NUMBA_CACHE_DIR": str(file.parent)})
        self.assertEqual((theirs.exists(), ours.exists(), run.call_count), (True, False, 2))


class Stopping(ProgramTest):
    """Ctrl-C ends the server and both workers; the address is printed; nothing listens any more."""

    def processes(self) -> list[str]:
        """Command lines of all processes that work in this test's data folder."""
        found = []
        for entry in Path("/proc").iterdir():
            try:
                if str(self.root / "home").encode() in (entry / "environ").read_bytes():
                    found.append((entry / "cmdline").read_bytes().replace(b"\0", b" ").decode())
            except OSError:
                continue
        return [c for c in found if "server." in c]

    def test_all_parts_stop_together(self):
        self.assertEqual(len(self.processes()), 5)  # the server and three workers, and what they are forked from
        ready = f"Zubret is ready: {self.address}"
        self.until(lambda: ready in (self.root / "log.txt").read_text(), 20, "the launcher to tell the address")
        begun = time.monotonic()
        self.program.send_signal(signal.SIGINT)
        self.assertEqual(self.program.wait(timeout=20), 0)
        self.assertLess(time.monotonic() - begun, 15)
        self.assertEqual(self.processes(), [])
        with self.assertRaises(OSError):
            socket.create_connection(("127.0.0.1", self.port), timeout=1)
        self.assertNotIn("Traceback", (self.root / "log.txt").read_text())

    @classmethod
    def stop_program(cls):
        if cls.program.poll() is None:
            super().stop_program()
