"""The screens over a game at full size, in a real browser: what somebody waits for, and what the page holds.

Times are taken in the page, from the event to the frame that shows the answer; no interface code of its own is added to it.
"""

from __future__ import annotations

import re
import shutil
import statistics
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Browser, CDPSession, Page, expect, sync_playwright

from . import game
from .pairs import Row
from .program import Page as Asked
from .program import free_port, is_up, launched, until

FULL = (50_000, 200_000, 40_000)
"""Loose files, entries of a table and of a ZIP file, streams in banks."""
NONE = "none"
_HELPERS = """
    window.sounds = [];
    const start = AudioBufferSourceNode.prototype.start;
    AudioBufferSourceNode.prototype.start = function (when = 0, ...more) {
        const wait = Math.max(0, when - this.context.currentTime) * 1000;
        window.sounds.push(performance.now() + wait);
        return start.call(this, when, ...more);
    };
    // ms from now until a condition holds in a frame that is drawn.
    window.shown = (holds) => new Promise((done) => {
        const begun = performance.now();
        const look = () => holds() ? requestAnimationFrame(() => done(performance.now() - begun)) : requestAnimationFrame(look);
        look();
    });
    window.filled = (grid) => {
        const list = document.querySelector(`[role=grid][aria-label="${grid}"]`);
        if (!list || list.getAttribute("aria-busy") === "true") return false;
        const cells = [...list.querySelectorAll("[role=gridcell]")];
        const none = list.getAttribute("aria-rowcount") === "1" && !cells.length;
        return none || (cells.length > 0 && cells.every((cell) => cell.textContent !== "…"));
    };
"""


def rows(folder: Path) -> Iterator[Row]:
    """All of it, in Debian's Chromium."""
    place = folder / "library" / "Full"
    game.make(place, *FULL, 50, 3)
    port = free_port()
    program = launched(folder, port, subprocess.DEVNULL)
    address = f"http://127.0.0.1:{port}"
    try:
        until(lambda: is_up(address), 120, "the launcher")
        asked = Asked(address)
        number = asked.send("POST", "/games", {"folder": str(place)})["id"]
        until(lambda: asked.get("/surveys"), 300, "the survey")
        until(lambda: not asked.get("/jobs?open=true"), 600, "the reading of contents")
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path=shutil.which("chromium-headless-shell"),
                args=["--no-sandbox", "--disable-gpu", "--disable-background-networking",
                      "--autoplay-policy=no-user-gesture-required", "--enable-precise-memory-info"],
            )  # fmt: skip
            yield from _screens(browser, address, number)
    finally:
        program.terminate()
        program.wait(30)


@contextmanager
def _page(browser: Browser) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
    context.set_default_timeout(60_000)
    context.add_init_script(_HELPERS)
    try:
        yield context.new_page()
    finally:
        context.close()


def _screens(browser: Browser, address: str, number: int) -> Iterator[Row]:
    nodes, firsts, note = [], [], []
    for name, place, grid in (
        ("Survey", "survey", "Files"),
        ("its tree", "survey?tree=true", "Files"),
        ("entries", "survey/data%2Ftable.crate", "Entries"),
        ("Locate", "locate", "Streams"),
        ("lines", "lines", "Lines"),
    ):
        times = []
        for _ in range(5):
            with _page(browser) as page:  # nothing is kept from one to the next
                page.goto(f"{address}/#/start")
                page.get_by_text("Full").first.wait_for()
                page.evaluate(f"location.hash = '#/{number}/{place}'")
                times.append(page.evaluate(f"shown(() => filled('{grid}'))"))
                nodes.append(page.evaluate("document.querySelectorAll('main *').length"))
        firsts.append(statistics.median(times))
        note.append(f"{name} {firsts[-1]:.0f}")
    yield Row("first rows of a screen, the slowest of five", NONE, [max(firsts)], 1000, ", ".join(note), "ms")
    yield Row("nodes of a screen with such a list", NONE, [float(max(nodes))], 2000, unit="")
    with _page(browser) as page:
        session = page.context.new_cdp_session(page)
        page.goto(f"{address}/#/{number}/locate")
        page.evaluate("shown(() => filled('Streams'))")
        yield _typed(page)
        yield _dragged(page, "Streams", "a dragged scroll bar, from rest to its rows")
        yield _arrows(page, "Streams", "an arrow key's sound (limit for the median)")
        page.goto(f"{address}/#/{number}/lines")
        page.evaluate("shown(() => filled('Lines'))")
        yield _dragged(page, "Lines", "the same on the line board")
        yield _arrows(page, "Lines", "an arrow key's sound there")
        page.goto(f"{address}/#/{number}/locate?archive=data%2Fvoice.crate")
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text(re.compile("^4"))
        yield _many(page)
        yield _memory(session)


def _typed(page: Page) -> Row:
    field = page.locator("section[aria-label=Streams] input[type=search]").first
    times = []
    for text in ("bank_03", "l0001", "s0499", "lines 07", "bank_00"):
        field.fill("")
        page.evaluate("shown(() => filled('Streams'))")
        page.wait_for_timeout(400)
        field.press_sequentially(text[:-1])
        page.wait_for_timeout(400)
        waiting = page.evaluate_handle(
            """() => { const grid = document.querySelector('[role=grid][aria-label=Streams]');
                let asked = false;
                return { done: new Promise((done) => addEventListener('keydown', () => {
                    shown(() => {
                        const busy = grid.getAttribute('aria-busy') === 'true';
                        asked ||= busy;
                        return asked && !busy && filled('Streams');
                    }).then(done);
                }, { once: true, capture: true })) }; }"""
        )
        field.press(text[-1])
        times.append(waiting.evaluate("(waiting) => waiting.done"))
    field.fill("")
    page.evaluate("shown(() => filled('Streams'))")
    return Row("rows for what is typed, after the last key", NONE, times, 250, unit="ms")


def _dragged(page: Page, grid: str, what: str) -> Row:
    times = []
    for share in (0.5, 0.1, 0.9, 0.3, 0.7):
        times.append(
            page.evaluate(
                """async ([share, name]) => {
                    const grid = document.querySelector(`[role=grid][aria-label="${name}"]`);
                    for (let n = 1; n <= 20; n++) {
                        grid.scrollTop += (share * grid.scrollHeight - grid.scrollTop) * n / 20;
                        await new Promise((done) => setTimeout(done, 25));
                    }
                    return await shown(() => filled(name));
                }""",
                [share, grid],
            )
        )
    return Row(what, NONE, times, 400, unit="ms")


def _arrows(page: Page, name: str, what: str) -> Row:
    grid = page.get_by_role("grid", name=name)
    grid.evaluate("(grid) => grid.scrollTop = 0")
    grid.focus()
    page.keyboard.press("Home")
    page.wait_for_timeout(1000)
    times = []
    for _ in range(60):
        page.evaluate(
            "() => { sounds.length = 0; addEventListener('keydown', () => window.pressed = performance.now(),"
            " { once: true, capture: true }) }"
        )
        page.keyboard.press("ArrowDown")
        page.wait_for_function("sounds.length > 0")
        times.append(page.evaluate("sounds[0] - pressed"))
        page.wait_for_timeout(250)
    late = statistics.quantiles(times, n=20)[-1]
    return Row(what, NONE, times, 120, f"95 % within {late:.0f} ms (200)", "ms")


def _many(page: Page) -> Row:
    def timed(work: Callable[[], None]) -> float:
        begun = page.evaluate("performance.now()")
        work()
        return page.evaluate("performance.now()") - begun

    grid, chosen, marked = page.get_by_role("grid", name="Streams"), [], []
    total = page.locator("section[aria-label=Streams] p strong").inner_text()
    for _ in range(3):
        grid.focus()

        def choose() -> None:
            page.keyboard.press("Control+a")
            expect(page.get_by_role("toolbar", name="What is chosen")).to_contain_text(f"{total} of {total} chosen")

        def mark() -> None:
            page.get_by_role("button", name="◆ Mark", exact=True).click()
            page.get_by_role("button", name="Undo").wait_for()

        chosen.append(timed(choose))
        marked.append(chosen[-1] + timed(mark))
        page.get_by_role("button", name="Undo").click()
        page.get_by_text("are as they were").first.wait_for()
        page.keyboard.press("Escape")
    return Row(
        f"all {total} streams chosen and marked", NONE, marked, 2000, f"chosen {statistics.median(chosen):.0f} ms", "ms"
    )


def _memory(session: CDPSession) -> Row:
    session.send("Performance.enable")
    metrics = {m["name"]: m["value"] for m in session.send("Performance.getMetrics")["metrics"]}
    heap = metrics["JSHeapUsedSize"] / 1e6
    sizes = []
    for place in Path("/proc").glob("[0-9]*"):
        try:
            if b"--type=renderer" in (place / "cmdline").read_bytes():
                found = re.search(r"^Private_Dirty:\s+(\d+)", (place / "smaps_rollup").read_text(), re.M)
                sizes.append(int(found[1]) / 1024 if found else 0.0)
        except OSError:
            continue
    return Row("memory of the page's process, its own", NONE, [max(sizes)], 300, f"script heap {heap:.0f} MB", "MB")
