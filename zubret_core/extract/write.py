"""Writing entries to a folder or into a ZIP file."""

from __future__ import annotations

import errno
import json
import os
import shutil
import threading
import zipfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

import xxhash

from ..base import Cancelled, Kept, Progress, ZubretError, silent
from ..container import Container, GameFolder
from ..locate import Known, Spot
from ..source import BytesSource, DiskCache, FileSource, SliceSource, Source, remove_parts, whole
from .names import MANIFEST

WORKERS = min(4, os.cpu_count() or 1)
_json = json.encoder.encode_basestring_ascii
SMALL = 1 << 20
"""Bytes up to which a file is written at once, and needs no other name while it is incomplete."""
PIECE = 1 << 18
OPEN = 256 << 20
"""Bytes of memory that archives may take which are kept open."""
BATCH = 256
"""Small files that are written before their lines go into the manifest."""


@dataclass(frozen=True)
class Item:
    """An entry to take out: archive, entry numbers on the way in, its size, and where it goes below the folder; at: where it
    stands in its archive, so that entries are read in the order of their places."""

    archive: str
    chain: tuple[int, ...]
    size: int
    target: str
    name: str = ""
    at: int = 0

    @property
    def source(self) -> str:
        """Where it comes from, in words."""
        return f"{self.archive} › {self.name}" if self.name else self.archive


@dataclass
class Report:
    """What was written: files and bytes; skipped: files that were whole already; failed: item and problem."""

    files: int = 0
    bytes: int = 0
    skipped: int = 0
    failed: list[dict[str, Any]] = field(default_factory=list)


def by_place(items: Iterable[Item]) -> list[Item]:
    """Items archive by archive, and there in the order in which they stand."""
    return sorted(items, key=lambda item: (item.archive, item.chain[:-1], item.at))


class _Archives:
    """Archives by path and way in, shared by all workers; they stay open for as long as there is room."""

    def __init__(self, game: GameFolder, known: Known, cache: DiskCache | None, version: Callable[[str], str]):
        self._game, self._known, self._cache, self._version = game, known, cache, version
        self._open: Kept[tuple[str, tuple[int, ...]], Spot] = Kept(OPEN, lambda spot: spot.archive.weight())

    def _spot(self, archive: str, chain: tuple[int, ...]) -> Spot:
        def make() -> Spot:
            if chain:
                return self._spot(archive, chain[:-1]).entry(chain[-1])
            return Spot.file(self._game, archive, self._known, self._cache, self._version(archive))

        return self._open.made((archive, chain), make)

    def around(self, item: Item) -> Container:
        """The archive that holds an entry."""
        return self._spot(item.archive, item.chain[:-1]).archive


def extract(
    game: GameFolder,
    items: Sequence[Item],
    out: Path,
    known: Known | None = None,
    cache: DiskCache | None = None,
    progress: Progress = silent,
    version: Callable[[str], str] = str,
) -> Report:
    """Write entries below a folder, several at once; one that fails is listed and does not stop the others.

    What a manifest in the folder lists as whole is not written again. A file that is there and not listed is never
    overwritten. progress counts bytes. ZubretError where the disk has too little room, or fills up.
    """
    report, done_before = Report(), read_manifest(out)
    todo = []
    for item in items:
        line = done_before.get(item.target)
        place = out / item.target
        if line and line["size"] == item.size and place.is_file() and place.stat().st_size == item.size:
            report.skipped += 1
        else:
            todo.append(item)
    need, total = sum(item.size for item in todo), sum(item.size for item in items)
    remove_parts(out)
    need_room(out, need)
    out.mkdir(parents=True, exist_ok=True)
    work = _Work(_Archives(game, known or Known(), cache, version), out, set(done_before))
    todo = by_place(todo)
    progress(total - need, total, f"{report.skipped:,} of {len(items):,} files")
    with open(out / MANIFEST, "a", encoding="utf-8") as manifest, ThreadPoolExecutor(WORKERS) as pool:
        # Small files are made one after the other: several threads that make files in one folder wait for each other.
        small = [i for i in todo if i.size <= SMALL]
        jobs = {pool.submit(work.run, [i], report, manifest) for i in todo if i.size > SMALL}
        jobs.add(pool.submit(work.run, small, report, manifest))
        try:
            while True:
                failed = f", {len(report.failed):,} failed" if report.failed else ""
                note = f"{report.files + report.skipped:,} of {len(items):,} files{failed}"
                progress(total - need + work.written, total, note)
                if not jobs:
                    return report
                ended, jobs = wait(jobs, timeout=0.2, return_when=FIRST_COMPLETED)
                for job in ended:
                    job.result()
        except BaseException:
            work.stop.set()
            for job in jobs:
                job.cancel()
            raise


def need_room(out: Path, need: int) -> None:
    """ZubretError unless the disk has so many bytes free."""
    place = out
    while not place.exists() and place != place.parent:
        place = place.parent
    free = shutil.disk_usage(place).free
    if need > free:
        raise ZubretError(
            f"The files need {need:,} bytes, but the disk has {free:,} free.",
            file=str(out),
            next="Free some space, choose fewer entries or another export folder. Nothing was written.",
        )


@contextmanager
def explained(target: str) -> Iterator[None]:
    """Faults of writing a file, in words."""
    try:
        yield
    except FileExistsError:
        raise ZubretError(
            "A file of this name is there already, and Zubret did not write it.",
            file=target,
            next="Move it away, or choose another export folder.",
        ) from None
    except OSError as e:
        full = e.errno in (errno.ENOSPC, errno.EDQUOT)
        raise ZubretError(
            "The disk is full." if full else f"The file can't be written: {e.strerror}.",
            file=target,
            next="Free some room, or choose another folder, then take out again: it goes on from here.",
        ) from e


class _Work:
    """What the workers share: the archives, the folder, what is listed as ours, bytes written so far, and a stop."""

    def __init__(self, archives: _Archives, out: Path, ours: set[str]):
        self.archives, self.out, self.ours = archives, out, ours
        self.stop, self.written = threading.Event(), 0
        self._lock = threading.Lock()

    def run(self, batch: list[Item], report: Report, manifest: IO[str]) -> None:
        """Write entries one after the other, and their lines into the manifest, some at a time."""
        for n in range(0, len(batch), BATCH):
            self._run(batch[n : n + BATCH], report, manifest)

    def _run(self, batch: list[Item], report: Report, manifest: IO[str]) -> None:
        lines, failed, written = [], [], 0
        try:
            for item in batch:
                if self.stop.is_set():
                    return
                try:
                    size, value = self._small(item) if item.size <= SMALL else self._large(item)
                except Cancelled:
                    return
                except ZubretError as e:
                    failed.append({"target": item.target, "source": item.source, **e.as_dict()})
                    continue
                written += size
                lines.append(
                    f'{{"path": {_json(item.target)}, "size": {size}, "xxh3_64": "{value}", '
                    f'"source": {_json(item.source)}}}\n'
                )
        finally:
            with self._lock:
                manifest.write("".join(lines))
                manifest.flush()
                report.files += len(lines)
                report.bytes += written
                report.failed += failed

    def _small(self, item: Item) -> tuple[int, str]:
        """A file that is written at once; its size and sum."""
        archive, index = self.archives.around(item), item.chain[-1]
        data = archive.data(index)
        archive.check(index, BytesSource(data))
        place = f"{self.out}/{item.target}"
        with explained(item.target):
            try:
                self._put(place, data, os.O_EXCL)
            except FileNotFoundError:
                Path(place).parent.mkdir(parents=True, exist_ok=True)
                self._put(place, data, os.O_EXCL)
            except FileExistsError:
                # Ours if it is listed, or if a cut left it whole or in part before it could be listed.
                with open(place, "rb") as file:
                    ours = item.target in self.ours or data.startswith(file.read(len(data) + 1))
                if not ours:
                    raise
                self._put(place, data, os.O_TRUNC)
        self.written += len(data)
        return len(data), xxhash.xxh3_64_hexdigest(data)

    @staticmethod
    def _put(place: str, data: bytes, how: int) -> None:
        handle = os.open(place, os.O_WRONLY | os.O_CREAT | how | getattr(os, "O_BINARY", 0), 0o666)
        try:
            view = memoryview(data)
            while view:
                view = view[os.write(handle, view) :]
        except OSError:
            Path(place).unlink(missing_ok=True)
            raise
        finally:
            os.close(handle)

    def _large(self, item: Item) -> tuple[int, str]:
        """A file that is written piece by piece under another name; its size and sum."""
        place = self.out / item.target
        archive, index = self.archives.around(item), item.chain[-1]
        content = archive.open(index)
        with explained(item.target), whole(place) as part:
            value = self._copy(content, part)
            with FileSource(part) as written:
                archive.check(index, written)
            # Ours if it is listed, or if a cut left it whole before it could be listed.
            if place.exists() and item.target not in self.ours and sum_of(place) != value:
                raise FileExistsError
        return content.size, value

    def _copy(self, content: Source, place: Path) -> str:
        """Write all bytes; returns their xxh3-64."""
        value = xxhash.xxh3_64()
        try:
            file = open(place, "wb", buffering=0)
        except FileNotFoundError:
            place.parent.mkdir(parents=True, exist_ok=True)
            file = open(place, "wb", buffering=0)
        with file:
            for piece in content.chunks(step=PIECE):
                if self.stop.is_set():
                    raise Cancelled
                value.update(piece)
                view = memoryview(piece)
                while view:
                    view = view[file.write(view) :]
                with self._lock:
                    self.written += len(piece)
        return value.hexdigest()


def sum_of(place: Path) -> str:
    """The xxh3-64 of a file."""
    value = xxhash.xxh3_64()
    with FileSource(place) as file:
        for piece in file.chunks():
            value.update(piece)
    return value.hexdigest()


def read_manifest(out: Path) -> dict[str, dict[str, Any]]:
    """The lines of a folder's manifest by path; a line that was cut short is passed over."""
    lines: dict[str, dict[str, Any]] = {}
    try:
        with open(out / MANIFEST, encoding="utf-8") as file:
            for text in file:
                try:
                    line = json.loads(text)
                    lines[line["path"]] = line
                except (ValueError, KeyError, TypeError):
                    continue
    except OSError:
        pass
    return lines


def extract_zip(
    game: GameFolder,
    items: Sequence[Item],
    place: Path,
    known: Known | None = None,
    cache: DiskCache | None = None,
    progress: Progress = silent,
    version: Callable[[str], str] = str,
) -> Report:
    """Write entries into one ZIP file, the manifest last; it is there whole or not at all."""
    report, total, done = Report(), sum(i.size for i in items), 0
    need_room(place.parent, total)
    archives = _Archives(game, known or Known(), cache, version)
    lines = []
    try:
        with whole(place) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as pack:
            for n, item in enumerate(by_place(items)):
                progress(done, total, f"{n:,} of {len(items):,} files")
                value = xxhash.xxh3_64()
                try:
                    archive, index = archives.around(item), item.chain[-1]
                    content = archive.open(index)
                    if not isinstance(content, SliceSource | FileSource):
                        for _ in content.chunks(step=PIECE):  # what can't be unpacked whole is not begun
                            pass
                    archive.check(index, content)
                except ZubretError as e:
                    report.failed.append({"target": item.target, "source": item.source, **e.as_dict()})
                    continue
                with pack.open(zipfile.ZipInfo(item.target), "w", force_zip64=content.size >= 1 << 31) as out:
                    for piece in content.chunks(step=PIECE):
                        value.update(piece)
                        out.write(piece)
                        done += len(piece)
                        progress(done, total, f"{n:,} of {len(items):,} files")
                report.files += 1
                report.bytes += content.size
                line = {"path": item.target, "size": content.size, "xxh3_64": value.hexdigest(), "source": item.source}
                lines.append(json.dumps(line))
            pack.writestr(MANIFEST, "".join(line + "\n" for line in lines))
    except OSError as e:
        raise ZubretError(
            f"The ZIP file can't be written: {e.strerror}.", file=place.name, next="Free some space, then start again."
        ) from e
    return report
