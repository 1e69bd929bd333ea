"""How soon one hears a stream while a game is surveyed and another one rebuilt."""

from __future__ import annotations

import http.client
import multiprocessing
import os
import random
import signal
import statistics
import subprocess
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import closing, contextmanager
from itertools import islice
from multiprocessing.sharedctypes import Synchronized
from multiprocessing.synchronize import Event
from pathlib import Path
from typing import Any

import numpy as np

from server.worker import NICE

from . import game
from .pairs import Row, seconds
from .program import Page, form, free_port, is_up, launched, until
from .ranges import get
from .rebuilds import large_archive, noise

COUNT, ROUNDS = 200, 5
"""Streams that are listened to in each half of a round, each for the first time; and rounds."""
LOOK = 0.3
"""Seconds after which a job is looked at again, as the page does."""
WAIT = 300.0
OWN = multiprocessing.get_context("fork")


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
        yield from _measured(Page(address), port, heard, surveyed, rebuilt)
    finally:
        program.send_signal(signal.SIGTERM)
        program.wait(30)


def _measured(page: Page, port: int, heard: Path, surveyed: Path, rebuilt: Path) -> Iterator[Row]:
    games = [page.send("POST", "/games", {"folder": str(place)}) for place in (heard, surveyed, rebuilt)]
    until(lambda: not page.get("/jobs?open=true"), WAIT, "the surveys")
    orders = f"/games/{games[1]['id']}/survey", f"/mods/{_mod(page, games[2])}/rebuild"
    files, ended = list(surveyed.rglob("*.wav")), OWN.Value("i", 0)
    rows = [r for n in range(0, 3 * COUNT * ROUNDS, 500) for r in _streams(page, games[0], n)]
    chosen = iter(random.Random(1).sample([r["audio"] for r in rows], 3 * COUNT * ROUNDS))
    rest, counting, load = [], [], []
    for _ in range(ROUNDS):
        rest.append(_95th(port, islice(chosen, COUNT)))
        with _beside(_count), _beside(_count):
            counting.append(_95th(port, islice(chosen, COUNT)))
        with _beside(_order, page, orders, files, ended):
            load.append(_95th(port, islice(chosen, COUNT)))
        until(lambda: not page.get("/jobs?open=true"), WAIT, "what the jobs left to do")
    told = {
        name: 1000 * statistics.median(times) for name, times in (("rest", rest), ("count", counting), ("load", load))
    }
    note = f"95th percentile: {told['load']:.1f} ms against {told['rest']:.1f} ms, while {ended.value} jobs ended"
    ratios = [a / b for a, b in zip(load, rest, strict=True)]
    yield Row("first samples while a survey and a rebuild run", "the same with workers at rest", ratios, 2, note)
    ratios = [a / b for a, b in zip(load, counting, strict=True)]
    note = f"{told['load']:.1f} ms against {told['count']:.1f} ms: what two busy cores cost, whatever they do"
    yield Row("the same", "while two loops of like priority count", ratios, None, note)


@contextmanager
def _beside(work: Callable[..., None], *args: Any) -> Iterator[None]:
    """While a process works: in the listener's own, a thread would make it wait for Python's lock."""
    stop = OWN.Event()
    process = OWN.Process(target=work, args=(stop, *args))
    process.start()
    time.sleep(0.5)
    try:
        yield
    finally:
        stop.set()
        process.join()


def _order(stop: Event, page: Page, orders: tuple[str, ...], files: list[Path], ended: Synchronized[int]) -> None:
    """Order the jobs again and again; each survey finds all files touched, so that it reads each anew."""
    while not stop.is_set():
        for file in files:
            os.utime(file)
        for job in [page.send("POST", order) for order in orders]:
            while not page.get(f"/jobs/{job['id']}")["finished"]:
                time.sleep(LOOK)
            ended.value += 1


def _count(stop: Event) -> None:
    """Do nothing but count, with a worker's priority."""
    os.nice(NICE)
    while not stop.is_set():
        sum(range(100_000))


def _95th(port: int, addresses: Iterable[str]) -> float:
    """Seconds within which nineteen of twenty first samples come."""
    return float(np.percentile(_first_samples(port, addresses), 95))


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
