"""What somebody waits for in games at full size, hour by hour: surveys, long and packed streams, taking out, rebuilds.

The application is started as a person starts it and asked as its page asks. Most rows are seconds without a reference; the
memory of all processes and the words of all jobs are watched from beginning to end.
"""

from __future__ import annotations

import os
import re
import shutil
import signal
import statistics
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Self

import numpy as np

from standin.formats import PCM, Sound, bell, crate

from . import game
from .idle import processes
from .pairs import Row, seconds
from .program import Page, form, free_port, is_up, launched, until
from .rebuilds import large_archive, noise

WAIT = 1800.0
NONE = "none"
PACKAGES, EACH = 37_000, 4
"""Archives in one game, and streams in each."""
LONG, PACKED, LARGE = 2_400_000_000, 2_000_000_000, 6_400_000_000
"""Bytes of a WAV file, of an entry that is packed, of an archive."""
LINES = "data/lines.zip"


def rows(folder: Path) -> Iterator[Row]:
    """All of it, on one Zubret."""
    (folder / "library").mkdir()
    port = free_port()
    program = launched(folder, port, subprocess.DEVNULL)
    try:
        until(lambda: is_up(f"http://127.0.0.1:{port}"), 120, "the launcher")
        time.sleep(5)
        with _Memory(folder) as memory:
            desk = _Desk(Page(f"http://127.0.0.1:{port}"), folder / "library")
            yield from _surveys(desk)
            yield from _one_of_all(desk)
            yield from _long(desk)
            yield from _packed(desk)
            yield from _large(desk)
            yield Row("memory of any process over all of it, above idle", NONE, [memory.most()], 500, unit="MB")
            yield from desk.words()
    finally:
        program.send_signal(signal.SIGTERM)
        program.wait(60)


class _Watch:
    """Looks again and again, from beginning to end, while something else is done."""

    EVERY = 0.05

    def __enter__(self) -> Self:
        self._stop = threading.Event()
        self._begin()
        self._thread = threading.Thread(target=self._watch)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _watch(self) -> None:
        while not self._stop.wait(self.EVERY):
            self._look()

    def _begin(self) -> None:
        """What is there at first."""

    def _look(self) -> None:
        """What is there now."""


class _Memory(_Watch):
    """The most private memory of each process of an application; what it had at first is not counted."""

    EVERY = 0.2

    def __init__(self, folder: Path):
        self._folder, self._first, self._most = folder, dict[str, int](), dict[str, int]()

    def most(self) -> float:
        """MB; a process that began later counts whole."""
        return max(most - self._first.get(name, 0) for name, most in self._most.items()) / 1024

    def _begin(self) -> None:
        self._look()
        self._first = dict(self._most)

    def _look(self) -> None:
        for place in processes(self._folder):
            try:
                found = re.search(r"^RssAnon:\s+(\d+)", (place / "status").read_text(), re.M)
            except OSError:
                continue  # it has ended
            if found:
                self._most[place.name] = max(int(found[1]), self._most.get(place.name, 0))


class _Room(_Watch):
    """The most room on a disk that was taken within, by whomever."""

    def __init__(self, folder: Path):
        self._folder, self.most = folder, 0

    def _begin(self) -> None:
        self._had = self._free()

    def _look(self) -> None:
        self.most = max(self.most, self._had - self._free())

    def _free(self) -> int:
        return shutil.disk_usage(self._folder).free


class _Desk:
    """Orders given to an application, and what its jobs say meanwhile."""

    def __init__(self, page: Page, library: Path):
        self.page, self.library = page, library
        self._silent, self._back, self._silent_at = 0.0, 0, ""

    def game(self, name: str) -> tuple[dict[str, Any], float]:
        """A game of the library once it is surveyed, and how long the survey took."""
        of = self.page.send("POST", "/games", {"folder": str(self.library / name)})
        job = next(j for j in self.page.get("/jobs?open=true") if j["game_id"] == of["id"])
        return of, self.done(job)

    def job(self, path: str, body: Any = None) -> float:
        """How long the job that an address starts takes."""
        begun = time.monotonic()
        job = self.page.send("POST", path, body)
        return time.monotonic() - begun + self.done(job)

    def done(self, job: dict[str, Any]) -> float:
        """Seconds until a job is done."""
        begun = spoken = time.monotonic()
        said: tuple = ("", "", 0, 0)
        while True:
            job = self.page.get(f"/jobs/{job['id']}")
            now = time.monotonic()
            words = job["state"], job["note"], job["done"], job["total"]
            if words == said or job["finished"]:
                if now - spoken > self._silent:
                    self._silent, self._silent_at = now - spoken, f"{job['title']}: {said[1]}"
            else:
                if said[2] * (words[3] or 1) > words[2] * (said[3] or 1):
                    self._back += 1
                said, spoken = words, now
            if job["finished"]:
                assert job["state"] == "done", job["error"]
                return now - begun
            time.sleep(0.1)

    def rest(self) -> None:
        """Wait until nothing is left to do."""
        until(lambda: not self.page.get("/jobs?open=true"), WAIT, "the jobs")

    def words(self) -> Iterator[Row]:
        """What the bars of all jobs showed."""
        yield Row("the longest that a job said nothing new", NONE, [self._silent], 2, self._silent_at, "s")
        yield Row("how often a bar went back", NONE, [self._back], 0, unit="")

    def clear(self, of: dict[str, Any], name: str) -> None:
        """Forget a game, and remove its files."""
        self.rest()
        self.page.send("DELETE", f"/games/{of['id']}")
        shutil.rmtree(self.library / name)


def _surveys(desk: _Desk) -> Iterator[Row]:
    game.loose_sounds(desk.library / "Loose", 50_000)
    of, took = desk.game("Loose")
    yield Row("a survey of 50,000 loose sounds", "277 s before", [took], 60, unit="s")
    desk.rest()
    yield Row("again", "124 s before", [desk.job(f"/games/{of['id']}/survey")], 10, unit="s")
    desk.clear(of, "Loose")
    kinds = []
    for seed in range(50):
        sounds = [Sound(n + 1, noise(200 + 10 * seed, 1, seed), 8000, codec=PCM) for n in range(EACH)]
        kinds.append(crate("bench", [("voice.bell", bell("voice", sounds), False)]))
    for n in range(PACKAGES):
        place = desk.library / "Packages" / f"p{n // 500:03}"
        place.mkdir(parents=True, exist_ok=True)
        (place / f"p{n:05}.crate").write_bytes(kinds[n % len(kinds)])
    of, took = desk.game("Packages")
    yield Row(f"a survey of 37,000 packages of {EACH} streams", NONE, [took], 120, unit="s")
    begun = time.monotonic()
    desk.rest()
    yield Row("reading their contents", NONE, [time.monotonic() - begun], unit="s")
    yield Row("again", NONE, [desk.job(f"/games/{of['id']}/survey")], unit="s")
    answer = len(str(desk.page.get(f"/games/{of['id']}/survey")))
    yield Row("the survey's answer", "13,700 kB before", [answer / 1000], unit="kB")
    desk.clear(of, "Packages")


def _one_of_all(desk: _Desk) -> Iterator[Row]:
    game.make(desk.library / "Full", 50_000, 200_000, 40_000, 50, 3)
    of, took = desk.game("Full")
    yield Row("a survey of 50,000 files, 200,000 entries twice", NONE, [took], unit="s")
    desk.rest()
    base = f"/games/{of['id']}"
    pages = [f"{base}/streams?offset={n}&limit=100" for n in range(38_000, 40_000, 200)]
    yield _median(desk, "a page 39,000 rows down", "600 ms before", pages)
    members = desk.page.get(f"{base}/streams?archive={LINES}&limit=100&offset=17000")["rows"]
    sounds = [f"/audio/{row['audio']}/pcm?start=0&frames=12000" for row in members]
    yield _median(desk, "first samples of sounds in a ZIP file of 200,000", "6,000 ms before", sounds)
    ten = {"chosen": [row["id"] for row in members[:10]]}
    yield Row("ten of its files taken out", "43 s before", [desk.job(f"{base}/sounds", ten)], unit="s")
    order = {"filter": {"archive": [LINES]}, "folder": str(desk.library / "out"), "how": {"template": "line"}}
    plan = seconds(lambda: desk.page.send("POST", f"{base}/sounds/plan", order))
    yield Row("planning 40,000 of them, with one name for all", "47 s before", [plan], unit="s")
    yield Row("taking them out", NONE, [desk.job(f"{base}/sounds", order)], unit="s")
    assert len(list((desk.library / "out").glob("*.wav"))) == 40_000
    night = desk.page.get(f"{base}/streams?archive=data/night.wav")["rows"][0]["audio"]
    yield _median(desk, "a waveform of three hours, first drawn", "35,000 ms before", [f"/audio/{night}/wave"])
    shutil.rmtree(desk.library / "out")
    desk.clear(of, "Full")


def _median(desk: _Desk, what: str, before: str, paths: list[str]) -> Row:
    times = [1000 * seconds(lambda path=path: desk.page.get(path)) for path in paths]
    return Row(what, before, times, unit="ms", note=f"95 % within {np.percentile(times, 95):.1f} ms")


def _swap(desk: _Desk, of: dict[str, Any], wav: bytes) -> tuple[str, float, int]:
    """The first stream replaced by a WAV file, at another rate if need be: the mod's address, how long it was prepared, and the
    bytes that were made."""
    stream = desk.page.get(f"/games/{of['id']}/streams?limit=1")["rows"][0]
    swap = desk.page.send("POST", f"/mods/{of['mod_id']}/swaps", *form(stream_id=stream["id"], file=wav))

    def settled() -> dict[str, Any] | None:
        for job in desk.page.get("/jobs?open=true"):
            desk.done(job)
        found = desk.page.get(f"/swaps/{swap['id']}")
        return None if found["state"] in ("reading", "preparing") else found

    begun = time.monotonic()
    found = until(settled, WAIT, "the swap")
    assert found is not None
    if found["state"] == "open":
        desk.page.send("PATCH", f"/swaps/{swap['id']}", {"resample": True})
        found = until(settled, WAIT, "the swap at another rate")
    took = time.monotonic() - begun
    assert found is not None and found["state"] == "ready", found
    desk.rest()
    return f"/mods/{of['mod_id']}", took, found["new"]["size"]


def _line(frames: int = 60_000) -> bytes:
    pcm = noise(frames, 2, seed=9)
    return game.wav_head(pcm.nbytes, 48000, 2) + pcm.tobytes()


def _long(desk: _Desk) -> Iterator[Row]:
    place = desk.library / "Long"
    place.mkdir()
    large_archive(place / "long.crate", 1 << 20)
    of, _ = desk.game("Long")
    piece = noise(LONG // 4 // 64, 2).tobytes()
    with _Room(place) as room:
        _, took, made = _swap(desk, of, game.wav_head(64 * len(piece), 44100, 2) + 64 * piece)
    yield Row("a WAV file of 2.4 GB, to another rate and encoded", NONE, [took], unit="s")
    copies = room.most / (LONG + made)
    yield Row("most room on the disk meanwhile", "the file and what is made of it", [copies], 1.2)
    desk.clear(of, "Long")


def _packed(desk: _Desk) -> Iterator[Row]:
    place = desk.library / "Packed"
    place.mkdir()
    sounds = [Sound(1, noise(20_000, 2), 48000), Sound(2, noise(PACKED // 4, 2), 48000, codec=PCM)]
    (place / "packed.crate").write_bytes(crate("bench", [("music.bell", bell("music", sounds), True)]))
    of, took = desk.game("Packed")
    yield Row("a survey of a packed entry of 2 GB", NONE, [took], unit="s")
    desk.rest()
    mod, took, _ = _swap(desk, of, _line())
    yield Row("a short swap in it, prepared", NONE, [took], unit="s")
    plan = statistics.median(seconds(lambda: desk.page.get(f"{mod}/plan")) for _ in range(5))
    yield Row("asking for the plan of its rebuild", "102,000 ms before", [1000 * plan], unit="ms")
    yield Row("working that plan out", NONE, [desk.job(f"{mod}/plan")], unit="s")
    yield Row("its rebuild and proof", NONE, [desk.job(f"{mod}/rebuild")], unit="s")
    assert desk.page.get(f"{mod}/build")["state"] == "proved"
    desk.clear(of, "Packed")


def _large(desk: _Desk) -> Iterator[Row]:
    place = desk.library / "Large"
    place.mkdir()
    large_archive(place / "large.crate", LARGE)
    of, _ = desk.game("Large")
    desk.rest()
    mod, *_ = _swap(desk, of, _line())
    copy = desk.library / "copy.crate"

    def copied() -> None:
        subprocess.run(["cp", "--reflink=never", place / "large.crate", copy], check=True)
        subprocess.run(["sync", copy], check=True)

    os.sync()
    theirs = seconds(copied)
    copy.unlink()
    os.sync()
    ours = desk.job(f"{mod}/rebuild")
    assert desk.page.get(f"{mod}/build")["state"] == "proved"
    note = f"{ours:.0f} s against {theirs:.0f} s; 38 s against 14 s before"
    yield Row("6.4 GB with one swap, rebuilt and proved", "cp --reflink=never, sync FILE", [ours / theirs], None, note)
