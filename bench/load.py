"""How soon one hears a stream while a game is surveyed and another one rebuilt."""

from __future__ import annotations

import http.client
import os
import random
import signal
import statistics
import subprocess
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import closing
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np

from . import game
from .pairs import Row, seconds
from .program import Page, form, free_port, is_up, launched, until
from .ranges import get
from .rebuilds import large_archive, noise

COUNT, ROUNDS = 200, 5
"""Streams that are listened to in each half of a round, each for the first time; and rounds."""
WAIT = 300.0


def rows(folder: Path) -> Iterator[Row]:
    """The 95th percentile of first samples, with all workers at rest and while they work without a pause."""
    library = folder / "library"
    heard, surveyed, rebuilt = (library / name for name in ("heard", "surveyed", "rebuilt"))
    for place in (heard, rebuilt):
        place.mkdir(parents=True)
    game.many_streams(heard / "voice.crate", 5_000)
    game.loose_sounds(surveyed, 5_000)
    large_archive(rebuilt / "large.crate", 500_000_000)
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    program = launched(folder, port, subprocess.DEVNULL)
    try:
        until(lambda: is_up(address), WAIT, "the launcher")
        yield _measured(Page(address), port, heard, surveyed, rebuilt)
    finally:
        program.send_signal(signal.SIGTERM)
        program.wait(30)


def _measured(page: Page, port: int, heard: Path, surveyed: Path, rebuilt: Path) -> Row:
    games = [page.send("POST", "/games", {"folder": str(place)}) for place in (heard, surveyed, rebuilt)]
    until(lambda: not page.get("/jobs?open=true"), WAIT, "the surveys")
    mod = _mod(page, games[2])
    rows = [r for n in range(0, 2 * COUNT * ROUNDS, 500) for r in _streams(page, games[0], n)]
    chosen = iter(random.Random(1).sample([r["audio"] for r in rows], 2 * COUNT * ROUNDS))
    ended = 0

    def work(stop: threading.Event) -> None:
        nonlocal ended
        while not stop.is_set():
            for file in surveyed.rglob("*.wav"):
                os.utime(file)  # so that each is read anew
            jobs = [page.send("POST", f"/games/{games[1]['id']}/survey"), page.send("POST", f"/mods/{mod}/rebuild")]
            for job in jobs:
                until(lambda job=job: page.get(f"/jobs/{job['id']}")["finished"], WAIT, job["kind"])  # type: ignore[misc]
                ended += 1

    rest, load = [], []
    for _ in range(ROUNDS):
        rest.append(_95th(_first_samples(port, islice(chosen, COUNT))))
        stop = threading.Event()
        worker = threading.Thread(target=work, args=(stop,))
        worker.start()
        time.sleep(0.5)
        load.append(_95th(_first_samples(port, islice(chosen, COUNT))))
        stop.set()
        worker.join()
        until(lambda: not page.get("/jobs?open=true"), WAIT, "what the jobs left to do")
    told = [1000 * statistics.median(times) for times in (load, rest)]
    note = f"95th percentile: {told[0]:.1f} ms against {told[1]:.1f} ms, while {ended} jobs ended"
    ratios = [a / b for a, b in zip(load, rest, strict=True)]
    return Row("first samples while a survey and a rebuild run", "the same with workers at rest", ratios, 2, note)


def _95th(times: list[float]) -> float:
    return float(np.percentile(times, 95))


def _streams(page: Page, of: dict[str, Any], offset: int) -> list[dict[str, Any]]:
    return page.get(f"/games/{of['id']}/streams?offset={offset}&limit=500")["rows"]


def _first_samples(port: int, addresses: Iterable[str]) -> list[float]:
    times = []
    with closing(http.client.HTTPConnection("127.0.0.1", port)) as connection:
        for address in addresses:
            times.append(seconds(lambda: get(connection, f"/api/audio/{address}/pcm?start=0&frames=12000")))  # noqa: B023
            time.sleep(0.02)
    return times


def _mod(page: Page, of: dict[str, Any]) -> int:
    """A mod with one longer stream, ready to be rebuilt."""
    stream = _streams(page, of, 0)[0]
    pcm = noise(60_000, 2, seed=9)
    line = game.wav_head(pcm.nbytes, 48000, 2) + pcm.tobytes()
    swap = page.send("POST", f"/mods/{of['mod_id']}/swaps", *form(stream_id=stream["id"], file=line))
    until(lambda: page.get(f"/swaps/{swap['id']}")["state"] == "ready", WAIT, "the swap")
    return int(of["mod_id"])
