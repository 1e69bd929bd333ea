"""All at once: surveys, contents, comparisons, taking out, rebuilds, and twenty people who listen, on one database."""

import os
import threading
import time
import urllib.request

import numpy as np

from bench.program import form
from tests.program import ProgramTest
from tests.server.support import wav_bytes
from tests.support import copy_of_demo, tone

SECONDS = float(os.environ.get("ZUBRET_TEST_BUSY", "30"))
LISTENERS = 20


class Busy(ProgramTest):
    @classmethod
    def prepare_library(cls):
        copy_of_demo(cls.root / "library" / "Second")

    def ended(self, job: dict) -> dict:
        return self.until(
            lambda: next((j for j in [self.api(f"/jobs/{job['id']}")] if j["finished"]), None), 60, job["kind"]
        )

    def test_nothing_is_locked_and_no_work_is_lost(self):
        games = [
            self.send("POST", "/games", {"folder": str(self.root / "library" / n)})
            for n in ("Saltglass Ferry", "Second")
        ]
        self.until(lambda: not self.api("/jobs?open=true"), 60, "the surveys")
        game = games[0]
        stream = self.api(f"/games/{game['id']}/streams?q=0246")["rows"][0]
        line = wav_bytes(tone(5, 48000, 440, 2), 48000)
        swap = self.send("POST", f"/mods/{game['mod_id']}/swaps", *form(stream_id=stream["id"], file=line))
        self.until(lambda: self.api(f"/swaps/{swap['id']}")["state"] == "open", 60, "the fit report")
        self.send("PATCH", f"/swaps/{swap['id']}", {"loop": "whole"})
        self.until(lambda: self.api(f"/swaps/{swap['id']}")["state"] == "ready", 60, "the swap")
        until, faults, times, jobs = time.monotonic() + SECONDS, [], [], []

        def listen(number: int) -> None:
            """As a browser does: the list, then the beginning of one stream after the other."""
            try:
                rows = self.api(f"/games/{games[number % 2]['id']}/streams?limit=50")["rows"]
                while time.monotonic() < until:
                    row = rows[np.random.default_rng().integers(len(rows))]
                    begun = time.monotonic()
                    with urllib.request.urlopen(
                        f"{self.address}/api/audio/{row['audio']}/pcm?frames=4096", timeout=30
                    ) as heard:
                        heard.read()
                    times.append(time.monotonic() - begun)
                    time.sleep(0.05)
                    if number == 0:
                        rows = self.api(f"/games/{game['id']}/streams?limit=50")["rows"]
            except Exception as e:
                faults.append(repr(e))

        listeners = [threading.Thread(target=listen, args=(n,)) for n in range(LISTENERS)]
        for one in listeners:
            one.start()
        while time.monotonic() < until:
            started = [self.send("POST", f"/games/{g['id']}/survey") for g in games]
            started.append(self.send("POST", f"/mods/{game['mod_id']}/rebuild", {"tight": False, "deep": False}))
            started.append(self.send("POST", f"/games/{game['id']}/take-out", {}))
            old, new = sorted(s["id"] for s in self.api("/surveys"))[-2:]
            started.append(self.send("POST", f"/changes/{old}/{new}"))
            self.send("PATCH", f"/streams/{stream['id']}", {"notes": f"after {len(jobs)} jobs"})
            jobs += [self.ended(job) for job in started]
        for one in listeners:
            one.join(60)
        self.assertEqual(faults, [])
        self.assertEqual([(j["kind"], j["state"], j["error"]) for j in jobs if j["state"] != "done"], [])
        self.assertGreaterEqual(len(jobs), 5)
        self.assertGreater(len(times), LISTENERS * SECONDS / 2)
        told = (self.root / "log.txt").read_text()
        for word in ("locked", "Traceback", "waiting for the database"):
            self.assertNotIn(word, told)
        self.assertEqual([j["state"] for j in self.api("/jobs") if j["state"] in ("failed", "cut off")], [])
