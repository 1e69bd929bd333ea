"""Zubret as it runs: a launcher, a web server, three workers, one database; and what happens when one of them goes."""

import os
import signal
import threading
import time

import numpy as np

from standin.formats import crate
from tests.program import ProgramTest
from tests.server.support import wav_bytes
from tests.support import small_bell, tone


def form(**fields) -> tuple[bytes, str]:
    """Fields and one file as multipart/form-data (RFC 7578)."""
    out = b""
    for name, value in fields.items():
        is_file = isinstance(value, bytes)
        out += f'--cut\r\nContent-Disposition: form-data; name="{name}"'.encode()
        out += b'; filename="line.wav"\r\n\r\n' + value if is_file else b"\r\n\r\n" + str(value).encode()
        out += b"\r\n"
    return out + b"--cut--\r\n", "multipart/form-data; boundary=cut"


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
        archive = next(f for f in self.api(f"/games/{game['id']}/survey")["rows"] if f["archive_id"])
        self.until(lambda: not self.open_jobs("digest"), 60, "the contents")
        out = self.send("POST", f"/games/{game['id']}/take-out", {"archive": archive["archive_id"]})
        home = self.root / "home" / "run"
        self.until(lambda: self.job(out)["state"] != "waiting", 20, "the taking out to begin")
        self.send("DELETE", f"/games/{game['id']}")
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
