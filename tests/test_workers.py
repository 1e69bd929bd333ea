"""Zubret as it runs: a launcher, a web server, three workers, one database; and what happens when one of them goes."""

import json
import os
import shutil
import signal
import subprocess
import threading
import time
import urllib.error
from contextlib import suppress
from unittest import SkipTest, skipUnless

import numpy as np

from bench.program import form
from server.jobs.alive import QUEUES
from standin.formats import crate
from tests.program import ProgramTest
from tests.server.support import wav_bytes
from tests.support import small_bell, tone


class Workers(ProgramTest):
    @classmethod
    def prepare_library(cls):
        for name in ("Large", "Other"):
            folder = cls.root / "library" / name
            folder.mkdir()
            filler = np.random.default_rng(3).bytes(200_000_000)
            (folder / "large.crate").write_bytes(crate("x", [("a.bell", small_bell(), False), ("f", filler, False)]))

    def surveyed(self, name: str) -> dict:
        game = self.send("POST", "/games", {"folder": str(self.root / "library" / name)})
        self.until(lambda: not self.open_jobs("survey"), 60, "the survey")
        return game

    def open_jobs(self, *kinds: str) -> list[dict]:
        return [j for j in self.api("/jobs?open=true") if not kinds or j["kind"] in kinds]

    def job(self, job: dict) -> dict:
        return self.api(f"/jobs/{job['id']}")

    def test_a_worker_that_goes_while_it_prepares_a_swap_leaves_nobody_waiting(self):
        game = self.surveyed("Saltglass Ferry")
        stream = self.api(f"/games/{game['id']}/streams?q=0246")["rows"][0]
        line = wav_bytes(tone(200, 48000, 440, 2), 48000)
        swap = self.send("POST", f"/mods/{game['mod_id']}/swaps", *form(stream_id=stream["id"], file=line))
        begun = lambda: any(j["state"] == "running" for j in self.open_jobs("prepare"))  # noqa: E731
        self.until(begun, 20, "the work to begin")
        os.kill(self.worker("quick"), signal.SIGKILL)
        found = self.until(
            lambda: next((s for s in [self.api(f"/swaps/{swap['id']}")] if s["error"]), None), 20, "the end of it"
        )
        self.assertEqual((found["state"], "cut off" in found["error"]["what"]), ("failed", True))
        self.assertIn("Try again", found["error"]["next"])
        self.until(self.is_up, 20, "the worker to come back")
        self.send("PATCH", f"/swaps/{swap['id']}", {})
        done = ("open", "ready")
        self.until(lambda: self.api(f"/swaps/{swap['id']}")["state"] in done, 60, "the same swap at the second try")

    def test_one_of_a_kind_for_a_game_and_all_that_ask_get_it(self):
        game = self.surveyed("Large")
        stopped = self.worker("long")
        os.kill(stopped, signal.SIGSTOP)  # it lives, but takes nothing
        try:
            found: list[int] = []

            def ask() -> None:
                found.append(self.send("POST", f"/games/{game['id']}/survey")["id"])

            askers = [threading.Thread(target=ask) for _ in range(12)]
            for asker in askers:
                asker.start()
            for asker in askers:
                asker.join()
            self.assertEqual((len(found), len(set(found))), (12, 1))
            time.sleep(6)  # longer than anybody waits for a sign of life
            self.assertTrue(self.is_up())
            self.assertEqual(self.job({"id": found[0]})["state"], "waiting")
        finally:
            os.kill(stopped, signal.SIGCONT)
        self.until(lambda: self.job({"id": found[0]})["state"] == "done", 60, "the survey")

    def test_a_game_that_is_forgotten_while_it_is_worked_on(self):
        game = self.surveyed("Other")
        archive = next(f for f in self.api(f"/games/{game['id']}/files")["rows"] if f["archive_id"])
        self.until(lambda: not self.open_jobs("digest"), 60, "the contents")
        out = self.send("POST", f"/games/{game['id']}/take-out", {"archives": [archive["archive_id"]]})
        home = self.root / "home" / "run"
        self.until(lambda: self.job(out)["state"] != "waiting", 20, "the taking out to begin")
        self.send("DELETE", f"/games/{game['id']}?now=true")
        self.assertNotIn(game["id"], [g["id"] for g in self.api("/games")])
        self.until(lambda: not self.open_jobs(), 60, "all to be removed")
        self.assertNotIn(out["id"], [j["id"] for j in self.api("/jobs")])
        self.assertFalse((home / "exports" / str(out["id"])).exists())
        again = self.surveyed("Other")
        self.assertNotEqual(again["id"], game["id"])
        self.assertEqual(len(self.api(f"/games/{again['id']}/streams")["rows"]), 4)


class Endings(ProgramTest):
    """However the launcher ends, all of Zubret does; and nobody starts it twice on the same data."""

    def parts(self) -> int:
        return sum(bool(self.worker(queue)) for queue in ("long", "quick", "background"))

    def test_a_second_start_leads_to_the_first_and_all_ends_with_the_launcher(self):
        other = self.launch(ZUBRET_PORT="8399")
        self.assertEqual(other.wait(timeout=60), 0)
        self.assertIn(f"running already on {self.root}/home/run: {self.address}", self.told())
        for sign in (signal.SIGHUP, signal.SIGKILL):
            self.assertEqual(self.parts(), 3)
            self.program.send_signal(sign)
            self.program.wait(timeout=20)
            self.until(lambda: self.parts() == 0, 15, "the workers to notice")
            type(self).program = self.launch()
            self.until(self.is_up, 60, "the next start")
        self.assertNotIn("Traceback", self.told())

    def told(self) -> str:
        return (self.root / "log.txt").read_text()


@skipUnless(os.name == "posix" and os.geteuid() == 0, "only root can make a small disk")
class FullDisk(ProgramTest):
    """Zubret's data on a file system of 48 MB that is filled in the middle of its work."""

    @classmethod
    def prepare_library(cls):
        (cls.root / "home").mkdir()
        mount = ["mount", "-t", "tmpfs", "-o", "size=48m", "tmpfs", str(cls.root / "home")]
        if subprocess.run(mount, capture_output=True).returncode:
            raise SkipTest("no file system can be mounted here")
        cls.addClassCleanup(subprocess.run, ["umount", "-l", str(cls.root / "home")], check=True)

    def fill(self, free: int) -> None:
        """Leave only so many bytes."""
        ballast = self.root / "home" / "ballast"
        ballast.unlink(missing_ok=True)
        room = shutil.disk_usage(self.root / "home").free - free
        with suppress(OSError), open(ballast, "wb") as out:
            while room > 0:
                room -= out.write(bytes(min(room, 1 << 16)))
                out.flush()

    def refused(self, method: str, path: str, *body) -> dict:
        with self.assertRaises(urllib.error.HTTPError) as caught:
            self.send(method, path, *body)
        problem = json.load(caught.exception)
        self.assertEqual((caught.exception.code, "disk" in problem["what"]), (507, True), problem)
        return problem

    def ended(self, kind: str) -> dict:
        """The newest job of a kind, once it has ended."""

        def newest() -> dict | None:
            job = next(j for j in self.api("/jobs") if j["kind"] == kind)
            return job if job["finished"] else None

        return self.until(newest, 60, f"the end of {kind}")

    def test_it_stays_up_says_so_and_goes_on_when_there_is_room(self):
        pids = [self.worker(queue) for queue in QUEUES]
        folder = {"folder": str(self.game)}
        self.fill(0)
        self.assertIn("Free some room", self.refused("POST", "/games", folder)["next"])
        self.fill(1 << 20)
        game = self.send("POST", "/games", folder)
        self.fill(0)
        time.sleep(3)  # the survey runs against the wall
        self.fill(20 << 20)
        job = self.ended("survey")
        if job["state"] != "done":
            self.assertIn("The disk is full", job["error"]["what"])
            self.send("POST", f"/games/{game['id']}/survey")
            self.assertEqual(self.ended("survey")["state"], "done")
        self.until(lambda: not self.api("/jobs?open=true"), 60, "the contents")
        stream = self.api(f"/games/{game['id']}/streams?q=0246")["rows"][0]
        line = wav_bytes(tone(20, 48000, 440, 2), 48000)
        address, parts = f"/mods/{game['mod_id']}/swaps", form(stream_id=stream["id"], file=line)
        self.fill(1 << 20)
        self.refused("POST", address, *parts)
        self.fill(20 << 20)
        swap = f"/swaps/{self.send('POST', address, *parts)['id']}"
        self.until(lambda: self.api(swap)["state"] == "open", 60, "the fit report")
        self.fill(1 << 19)
        self.send("PATCH", swap, {"loop": "whole"})
        self.until(lambda: self.api(swap)["state"] not in ("reading", "preparing"), 60, "the end of preparing")
        self.assertEqual(self.api(swap)["state"], "failed", self.api(swap))
        self.assertIn("The disk is full", self.api(swap)["error"]["what"])
        self.fill(20 << 20)
        self.send("PATCH", swap, {})
        self.until(lambda: self.api(swap)["state"] == "ready", 60, "the swap")
        self.fill(8 << 20)
        self.send("POST", f"/mods/{game['mod_id']}/rebuild")
        self.assertIn("the disk has", self.ended("rebuild")["error"]["what"])
        self.fill(20 << 20)
        job = self.send("POST", f"/games/{game['id']}/sounds", {"how": {"kind": "ogg"}})
        self.until(
            lambda: len(list((self.root / "home").rglob("*.ogg"))) > 1, 20, "sounds: one would be given as it is"
        )
        self.fill(0)
        cut = self.ended("sounds")
        told = json.dumps([cut["error"], cut["result"]])
        self.assertTrue("disk is full" in told or "No space left" in told, cut)
        self.assertEqual([list((self.root / "home").rglob(name)) for name in ("*.part", "*.ogg")], [[], []])
        self.fill(20 << 20)
        self.send("POST", f"/jobs/{job['id']}/again")
        again = self.ended("sounds")
        self.assertEqual((again["state"], again["result"]["files"], again["result"]["failed_count"]), ("done", 48, 0))
        self.assertEqual([self.worker(queue) for queue in QUEUES], pids)
        self.assertTrue(self.is_up())
        log = (self.root / "log.txt").read_text()
        self.assertNotIn("Traceback", log)
