"""Writing streams as sound files, several at once; what a cut leaves whole is not written again."""

from __future__ import annotations

import csv
import hashlib
import json
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import asdict, dataclass
from itertools import islice
from pathlib import Path
from threading import Event

from ..audio.measure import Measures, measure
from ..audio.write import Style, write_sound, written_format
from ..bank import Stream
from ..base import Cancelled, Format, Progress, ZubretError, silent
from ..source import remove_parts
from .names import MANIFEST
from .write import WORKERS, Report, explained, need_room, read_manifest, sum_of

FIGURES = "zubret figures.csv"
PLAYLIST = "playlist.m3u8"
BEGUN = "zubret begun.json"
"""The targets that a run may write; it is there only while one runs, or after one was cut."""
_BYTES = {"wav": 2.0, "flac": 1.3, "ogg": 0.3, "opus": 0.25, "stored": 0.6}
"""Bytes of a sample, roughly, to say beforehand what is needed."""


@dataclass(frozen=True)
class SoundItem:
    """A stream to write: its row, format and language, where it goes below the folder, and its tags."""

    key: int
    source: str
    format: Format
    target: str
    title: str = ""
    language: str = ""
    tags: tuple[tuple[str, str], ...] = ()

    def size(self, style: Style) -> int:
        """Bytes that its file will have, roughly; exact for WAV with 16 bits."""
        out = written_format(self.format, style)
        return written_size(out.frames, out.channels, style)


def written_size(frames: int, channels: int, style: Style, files: int = 1) -> int:
    """Bytes of so many files that have so many frames together, roughly."""
    return 128 * files + int(frames * channels * _BYTES[style.kind])


def export_sounds(
    items: Sequence[SoundItem],
    out: Path,
    opened: Callable[[SoundItem], Stream],
    style: Style,
    *,
    figures: bool = False,
    playlist: bool = False,
    progress: Progress = silent,
) -> Report:
    """Write streams below a folder. One that fails is listed and does not stop the others.

    opened: called in this thread, one after the other. figures: measure every stream and write a CSV of all figures.
    progress counts frames. ZubretError where the disk has too little room.
    """
    report, before = Report(), read_manifest(out)
    remove_parts(out)
    need_room(out, sum(item.size(style) for item in items if item.target not in before))
    out.mkdir(parents=True, exist_ok=True)
    work = _Work(out, style, figures, set(before) | _begun(out))
    todo = []
    for item in items:
        line, place = before.get(item.target), out / item.target
        size = place.stat().st_size if place.is_file() else -1
        if line and line.get("as") == work.how(item) and line["size"] == size and (not figures or "figures" in line):
            report.skipped += 1
            work.lines[item.target] = line
        else:
            todo.append(item)
    total = sum(item.format.frames for item in items)
    done = total - sum(item.format.frames for item in todo)
    # A killed process can't list what it has just written: what this run may write is noted before.
    may = sorted(work.ours | {item.target for item in todo if not (out / item.target).exists()})
    (out / BEGUN).write_text(json.dumps(may), "utf-8")
    running: dict[Future, SoundItem] = {}
    queue = iter(todo)
    with open(out / MANIFEST, "a", encoding="utf-8") as manifest, ThreadPoolExecutor(WORKERS) as pool:
        try:
            while True:
                for item in islice(queue, max(0, 2 * WORKERS - len(running))):
                    try:
                        stream = opened(item)
                    except ZubretError as e:
                        report.failed.append({"target": item.target, "source": item.source, **e.as_dict()})
                        done += item.format.frames
                        continue
                    running[pool.submit(work.run, item, stream)] = item
                failed = f", {len(report.failed):,} failed" if report.failed else ""
                under_way = sum(round(i.format.frames * work.shares.get(i.target, 0.0)) for i in running.values())
                progress(done + under_way, total, f"{report.files + report.skipped:,} of {len(items):,} files{failed}")
                if not running:
                    break
                ended, _ = wait(running, timeout=0.2, return_when=FIRST_COMPLETED)
                for job in ended:
                    item = running.pop(job)
                    done += item.format.frames
                    try:
                        line = job.result()
                    except ZubretError as e:
                        report.failed.append({"target": item.target, "source": item.source, **e.as_dict()})
                        continue
                    work.lines[item.target] = line
                    manifest.write(json.dumps(line) + "\n")
                    manifest.flush()
                    report.files += 1
                    report.bytes += line["size"]
        except BaseException:
            work.stop.set()
            for job in running:
                job.cancel()
            raise
    (out / BEGUN).unlink(missing_ok=True)
    done_items = [item for item in items if item.target in work.lines]
    for wanted, name, write in ((figures, FIGURES, _write_figures), (playlist, PLAYLIST, _write_playlist)):
        if wanted:
            place = _free(out, name, work.ours)
            write(place, done_items, work)
            line = {"path": place.name, "size": place.stat().st_size, "xxh3_64": sum_of(place), "source": "Zubret"}
            with open(out / MANIFEST, "a", encoding="utf-8") as manifest:
                manifest.write(json.dumps(line) + "\n")
    return report


def _free(out: Path, name: str, ours: set[str]) -> Path:
    """Where a table of this name goes: over one of ours, never over somebody else's."""
    place, n = out / name, 1
    while place.exists() and place.name not in ours:
        n += 1
        place = out / f"{Path(name).stem} ({n}){Path(name).suffix}"
    return place


def _begun(out: Path) -> set[str]:
    """What a run that was cut may have written."""
    try:
        return set(json.loads((out / BEGUN).read_text("utf-8")))
    except (OSError, ValueError, TypeError):
        return set()


class _Work:
    """What the workers share."""

    def __init__(self, out: Path, style: Style, figures: bool, ours: set[str]):
        self.out, self.style, self.figures, self.ours = out, style, figures, ours
        self.lines: dict[str, dict] = {}
        self.shares: dict[str, float] = {}
        """How far each of those that are being written is."""
        self.stop = Event()

    def how(self, item: SoundItem) -> str:
        """Names the way in which an item is written: the same again need not be written anew."""
        text = json.dumps([asdict(self.style), item.tags, item.source, item.format.as_dict()], sort_keys=True)
        return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()

    def _told(self, item: SoundItem) -> Progress:
        """Notes how far a stream is, for the passes over it together; raises Cancelled when all are to stop."""
        passes = 1 + self.figures + (self.style.loudness is not None)
        ended, last = 0, 0.0

        def tell(done: int, total: int, note: str) -> None:
            nonlocal ended, last
            if self.stop.is_set():
                raise Cancelled
            share = done / total if total else 0.0
            ended, last = ended + (share < last), share  # where it is less than before, the next pass has begun
            self.shares[item.target] = min(1.0, (ended + share) / passes)

        return tell

    def run(self, item: SoundItem, stream: Stream) -> dict:
        """Write one; its line of the manifest."""
        place, tell = self.out / item.target, self._told(item)
        with explained(item.target):
            place.parent.mkdir(parents=True, exist_ok=True)
            if place.exists() and item.target not in self.ours:
                raise FileExistsError
            write_sound(place, stream.decode, stream.format, self.style, dict(item.tags), stream.payload, progress=tell)
            value = sum_of(place)
        line = {"path": item.target, "size": place.stat().st_size, "xxh3_64": value, "source": item.source}
        line["as"] = self.how(item)
        if self.figures:
            line["figures"] = measure(stream.decode, stream.format, item.language, item.source, tell).as_dict()
        return line


def _write_figures(place: Path, items: Sequence[SoundItem], work: _Work) -> None:
    """A table of all figures, one line a stream. Levels in LUFS, LU, dBTP and dBFS, silence in frames."""
    names = [name for name in Measures.__dataclass_fields__ if name not in ("reasons", "frames")]
    with open(place, "w", encoding="utf-8", newline="") as file:
        out = csv.writer(file)
        out.writerow(
            ["path", "source", "codec", "rate", "channels", "frames", "seconds", "loop_start", "loop_end", *names]
        )
        for item in items:
            f, figures = item.format, work.lines[item.target].get("figures", {})
            loop = (f.loop.start, f.loop.end) if f.loop else ("", "")
            facts = [f.codec, f.rate, f.channels, f.frames, round(f.frames / f.rate, 3), *loop]
            values = [round(v, 3) if isinstance(v, float) else v for v in (figures.get(n) for n in names)]
            out.writerow([safe_cell(item.target), safe_cell(item.source), *facts, *values])


def safe_cell(text: str) -> str:
    """A text that no table program takes for a formula, and that is valid Unicode."""
    text = text.encode("utf-8", "backslashreplace").decode()
    return f"'{text}" if text[:1] in "=+-@\t\r" and text else text


def _write_playlist(place: Path, items: Sequence[SoundItem], work: _Work) -> None:
    """The extended M3U list of common practice, in UTF-8."""
    lines = ["#EXTM3U"]
    for item in items:
        out = written_format(item.format, work.style)
        lines += [f"#EXTINF:{round(out.frames / out.rate)},{item.title or Path(item.target).stem}", item.target]
    place.write_text("\n".join(lines) + "\n", "utf-8")
