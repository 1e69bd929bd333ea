"""Dialogue by the hundred: lines that are prepared at once, and a folder that is dropped on thousands of them."""

from __future__ import annotations

import shutil
import statistics
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pyebur128
import soundfile
import soxr
from playwright.sync_api import Page as Browsed
from playwright.sync_api import sync_playwright

from standin.formats import ADPCM, Sound, bell, crate

from .pairs import Row, seconds
from .program import Page, form, free_port, is_up, launched, until

RATE, BLOCK = 24_000, 512
SPOKEN, SECONDS = 500, 3.0
"""Lines that are prepared, and how long each is."""
DROPPED, SHORT = 2000, 0.5
VOICES, ROUNDS = 25, 3
"""Different sounds among all; and how often all lines are prepared."""
NONE = "none"


def spoken(length: float, rate: int, seed: int) -> np.ndarray:
    """Something like speech, float32: four syllables a second of a tone with overtones, with breath, and pauses."""
    rng, time = np.random.default_rng(seed), np.arange(round(length * rate)) / rate
    pitch = np.cumsum(110 + 30 * np.sin(time * (2 + seed % 3)) + 10 * rng.standard_normal()) / rate
    tone = sum(np.sin(2 * np.pi * pitch * n) / n for n in range(1, 12))
    open_mouth = np.clip(np.sin(2 * np.pi * 4 * time + seed), 0, 1) * (np.sin(time * 2.1 + seed) > -0.7)
    return ((0.12 * tone + 0.02 * rng.standard_normal(len(time))) * open_mouth).astype(np.float32)


def voices(place: Path, count: int, length: float) -> None:
    """An archive with a bank of so many lines in the codec of four bits."""
    kinds = []
    for seed in range(VOICES):
        pcm = np.rint(spoken(length, RATE, seed) * 32767)[:, None].astype(np.int16)
        kinds.append(Sound(0, pcm, RATE, codec=ADPCM, block=BLOCK).payload())
    sounds = []
    for n in range(count):
        sound = Sound(n + 1, pcm, RATE, codec=ADPCM, block=BLOCK)
        sound.payload = lambda data=kinds[n % VOICES]: data
        sounds.append(sound)
    place.parent.mkdir(parents=True)
    place.write_bytes(crate("bench", [("voice/crew.bell", bell("crew", sounds, "English"), False)]))


def rows(folder: Path) -> Iterator[Row]:
    """Both, in a Zubret of its own."""
    voices(folder / "library" / "spoken" / "voice.crate", SPOKEN, SECONDS)
    voices(folder / "library" / "dropped" / "voice.crate", DROPPED, SHORT)
    files = folder / "files"
    files.mkdir()
    for n in range(SPOKEN):
        pcm = spoken(SECONDS, 2 * RATE, 1000 + n % VOICES)
        soundfile.write(files / f"{n + 1}.flac", pcm, 2 * RATE, subtype="PCM_16")
    with _program(folder) as page:
        yield from _prepared(page, folder / "library" / "spoken", sorted(files.iterdir()))
        yield from _dropped(page, folder / "library" / "dropped", folder / "new lines")


@contextmanager
def _program(folder: Path) -> Iterator[Page]:
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    program = launched(folder, port, subprocess.DEVNULL)
    try:
        until(lambda: is_up(address), 120, "the launcher")
        yield Page(address)
    finally:
        program.terminate()
        program.wait(30)


def _game(page: Page, place: Path) -> tuple[int, int, list[int]]:
    """A surveyed game: its number, its mod's, and those of its streams."""
    game = page.send("POST", "/games", {"folder": str(place)})
    until(lambda: not page.get("/jobs?open=true"), 120, "the survey")
    streams = page.get(f"/games/{game['id']}/stream-numbers?sort=id")
    return game["id"], game["mod_id"], streams


def _prepared(page: Page, place: Path, files: list[Path]) -> Iterator[Row]:
    _, mod, streams = _game(page, place)
    alone, alike, mine = [], [], []
    for _ in range(ROUNDS):
        swaps = []
        for stream, file in zip(streams, files, strict=True):
            body, kind = form(stream_id=stream, waits="true", file=file.read_bytes())
            swaps.append(page.send("POST", f"/mods/{mod}/swaps", body, kind)["id"])
        order = {"swaps": swaps, "fit": True, "steps": {"match": "original"}}
        begun = time.perf_counter()
        page.send("POST", f"/mods/{mod}/alike", order)
        until(lambda: not page.get("/jobs?open=true"), 120, "the lines")
        mine.append(time.perf_counter() - begun)
        assert all(page.get(f"/swaps/{n}")["state"] == "ready" for n in swaps[::50])
        out = place.parent / "plain.wav"
        alone.append(seconds(lambda out=out: [_plain(file, out) for file in files]))
        alike.append(seconds(lambda out=out: [_plain(file, out, True) for file in files]))
    told = [1000 * statistics.median(some) / len(files) for some in (mine, alone, alike)]
    note = f"{told[0]:.1f} ms a line against {told[1]:.1f} and {told[2]:.1f} ms"
    what = f"{len(files)} lines of {SECONDS:g} s prepared, from order to end"
    yield Row(what, "soundfile, soxr, libsndfile's IMA", [a / b for a, b in zip(mine, alone, strict=True)], 0.6, note)
    yield Row("the same", "and loudness matched by pyebur128", [a / b for a, b in zip(mine, alike, strict=True)], None)


def _plain(file: Path, out: Path, matched: bool = False) -> None:
    """The same in a plain loop's way; matched: its loudness, with its true peak in mind."""
    pcm, rate = soundfile.read(file, dtype="float32")
    pcm = soxr.resample(pcm, rate, RATE, "VHQ")
    if matched:
        modes = pyebur128.MeasurementMode
        meter = pyebur128.R128State(1, RATE, modes.MODE_I | modes.MODE_TRUE_PEAK)
        meter.add_frames(pcm, len(pcm))
        gain = 10 ** ((-23 - pyebur128.get_loudness_global(meter)) / 20)
        pcm = pcm * np.float32(min(gain, 0.89 / pyebur128.get_true_peak(meter, 0)))
    soundfile.write(out, pcm, RATE, subtype="IMA_ADPCM", format="WAV")


def _dropped(page: Page, place: Path, files: Path) -> Iterator[Row]:
    game, _, _ = _game(page, place)
    files.mkdir()
    for n in range(DROPPED):
        pcm = spoken(SHORT, RATE, 2000 + n % VOICES)
        soundfile.write(files / f"line_{n + 1:04}.wav", pcm, RATE, subtype="PCM_16")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium-headless-shell"), args=["--no-sandbox", "--disable-gpu"]
        )
        screen = browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=True)
        screen.set_default_timeout(60_000)
        screen.goto(f"{page.address}/#/{game}/lines")
        screen.get_by_role("gridcell").first.wait_for()
        screen.get_by_role("button", name="Files for these lines").click()
        dialog = screen.get_by_role("dialog")
        _watch(screen, "files of", "preview")
        dialog.locator("input[webkitdirectory]").set_input_files(files)
        dialog.get_by_text(f"{DROPPED:,} files of".replace(",", "\u202f")).wait_for()
        preview = screen.evaluate("seen.preview - seen.begun")
        yield Row(f"a folder of {DROPPED:,} files, matched and shown", NONE, [preview / 1000], 2, unit="s")
        _watch(screen, "fits", "first", "click")
        dialog.get_by_role("button", name="fit and prepare").click()
        screen.wait_for_function("seen.first > 0")
        first = screen.evaluate("seen.first - seen.begun")
        yield Row("its first take that fits, from the press", NONE, [first / 1000], 5, unit="s")
        grid, frames = screen.get_by_role("grid", name="Lines"), []
        grid.focus()
        for _ in range(30):
            frames.append(screen.evaluate(_FRAME))
            screen.keyboard.press("ArrowDown")
            screen.wait_for_timeout(200)
        sent = screen.get_by_role("group", name="Sending files").count()
        until(lambda: not page.get("/jobs?open=true"), 300, "the takes")
        note = "while files were sent" if sent else "while takes were prepared"
        yield Row("longest wait for a frame, going down the list", NONE, frames, 100, note, "ms")
        browser.close()


_FRAME = """() => new Promise((done) => {
    let last = performance.now(), most = 0, left = 12;
    const look = (now) => {
        most = Math.max(most, now - last);
        last = now;
        if (--left) requestAnimationFrame(look); else done(most);
    };
    requestAnimationFrame(look);
})"""


def _watch(screen: Browsed, text: str, name: str, event: str = "change") -> None:
    """Have the page note when an event comes, and when it then first shows a text."""
    screen.evaluate(
        """([text, name, event]) => {
            window.seen = { begun: 0, [name]: 0 };
            addEventListener(event, () => {
                seen.begun = performance.now();
                const look = () => document.body.innerText.includes(text)
                    ? (seen[name] = performance.now()) : requestAnimationFrame(look);
                requestAnimationFrame(look);
            }, { once: true, capture: true });
        }""",
        [text, name, event],
    )
