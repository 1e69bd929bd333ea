"""Preparing swaps: one, or many side by side. What is needed of the database is read before, and what comes of it is kept after, by
the one thread of the job; between these a task needs no database."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import closing
from dataclasses import dataclass, replace
from functools import partial
from os import cpu_count
from pathlib import Path
from typing import Any, ClassVar

from django.db import transaction

from zubret_core.audio import AudioInfo, look_through
from zubret_core.audio.files import PIECE
from zubret_core.bank import Stream as CoreStream
from zubret_core.base import Cancelled, Format, Passes, Progress, ZubretError, told_to
from zubret_core.codec import codec_of
from zubret_core.source import FileSource, Source, write_file
from zubret_core.swap import (
    FILE,
    ORIGINAL,
    STORED,
    FitReport,
    Level,
    Treatment,
    fit_report,
    fitted,
    level_of,
    prepare,
    stored_report,
)

from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..shelf.models import Stream
from ..shelf.sound import open_original
from .models import Mod, Swap
from .services import row_of, source_of
from .steps import REMEMBERED, remember
from .uploads import mod_folder

TRY_AGAIN = "Press Try again, or drop another file."
AT_ONCE = min(4, cpu_count() or 1)
"""Swaps that are prepared side by side."""
EVERY = 0.5
"""Seconds after which at the latest it is told how far they are."""


@dataclass(frozen=True)
class Outcome:
    """What came of a task: the treatment that was prepared in the end, and what the swap's row becomes."""

    how: Treatment
    values: dict[str, Any]

    @property
    def state(self) -> str:
        """Of the swap."""
        return str(self.values["state"])


@dataclass(frozen=True)
class Task:
    """All that preparing a swap needs. info: the facts of its source, level: the original's, where they are known; variant: what
    the source is called, where it is no file; fit: whether all that its report proposes is done first, if something does not fit;
    folder: where the result goes."""

    revision: int
    original: CoreStream
    source: Source
    is_original: bool
    variant: str
    info: AudioInfo | None
    level: Level | None
    how: Treatment
    fit: bool
    folder: Path
    stored: tuple[Path, Format] | None = None
    """A payload that is taken as it is, and its format."""

    def done(self, progress: Progress) -> Outcome:
        """Read the source, report, and encode where everything fits."""
        if self.stored is not None:
            return self._as_stored(*self.stored, progress)
        original, how = self.original, self.how
        level = self.level or _level_of(original)
        bar = Passes(progress, 0 if self.info else 1, 3)
        info = self.info or look_through(self.source, bar[0])
        if self.variant:
            info = replace(info, variant=self.variant)
        report = fit_report(original, level, info, how)
        if self.fit and report.verdict != "fits":
            how = fitted(original, level, info, how)
            report = fit_report(original, level, info, how)
        values = self._values(level, info, report)
        if report.verdict == "fits":
            result = prepare(original, None if self.is_original else self.source, info, how, report, bar[1])
            values["prepared"], values["state"] = (
                _keep(self.folder, result.payload, result.format, result.snr_db, result.level),
                Swap.READY,
            )
            values["report"] = fit_report(original, level, info, how, result.made).as_dict()
        return Outcome(how, values)

    def _values(self, level: Level, info: AudioInfo, report: FitReport) -> dict[str, Any]:
        """Of the swap's row, while nothing is encoded."""
        original = self.original
        return {
            "payload_digest": payload_digest(original.payload),
            "original": {"format": original.format.with_(setup=b"").as_dict(), "stored": original.payload.size},
            "original_level": level.as_dict(),
            "info": info.as_dict(),
            "report": report.as_dict(),
            "prepared": None,
            "state": Swap.OPEN,
            "error": None,
        }

    def _as_stored(self, place: Path, format: Format, progress: Progress) -> Outcome:
        """What a payload is that is never encoded again: it is only measured, and kept where the stream can take it."""
        level, bar = self.level or _level_of(self.original), Passes(progress, 2, 1)
        if not format.setup and format.codec == self.original.format.codec:
            format = format.with_(setup=self.original.format.setup)  # which all streams of a bank share
        info = self.info or replace(look_through(self.source, bar[0]), variant=self.variant)
        with FileSource(place) as payload:
            report = stored_report(self.original, level, format, payload.size)
            values = self._values(level, info, report)
            if report.verdict == "fits":
                decode = partial(codec_of(format).decode, payload, format)
                pieces = (decode(at, min(PIECE, format.frames - at)) for at in range(0, format.frames, PIECE))
                new = level_of(pieces, format.rate, format.channels)
                values["prepared"], values["state"] = _keep(self.folder, payload, format, math.inf, new), Swap.READY
        return Outcome(self.how, values)


def task_of(swap: Swap, row: Stream | None = None, steps: dict[str, Any] | None = None, fit: bool = False) -> Task:
    """What preparing a swap needs, with some steps of its treatment changed. row: its stream, where that is known."""
    original = open_original(row or row_of(swap, swap.locator))
    stored = (Path(swap.source_path), Format.from_dict(swap.source_format or {})) if swap.source == STORED else None
    how = Treatment.from_dict({**swap.treatment, **({} if stored else steps or {})})
    return Task(
        swap.revision,
        original,
        source_of(swap, original),
        swap.source == ORIGINAL,
        "" if swap.source == FILE else swap.source_name,  # a file's is its container and coding
        measured(swap, how),
        Level(**swap.original_level) if swap.original_level else None,
        how,
        fit,
        mod_folder(swap.mod) / "prepared",
        stored,
    )


def kept(swap: Swap, task: Task, outcome: Outcome) -> bool:
    """Keep what came of a task; False where the swap has changed meanwhile. A treatment that the task changed is one step."""
    with transaction.atomic():
        remember(swap, outcome.how)
        values = {**outcome.values, **{name: getattr(swap, name) for name in REMEMBERED}}
        same = Swap.objects.filter(pk=swap.pk, revision=task.revision, removed__isnull=True)
        if not same.update(**values):
            transaction.set_rollback(True)
            return False
    return True


def prepared_now(swap: Swap, progress: Progress) -> str:
    """Prepare a swap, and again if its treatment changed meanwhile; its state then."""
    while True:
        task = task_of(swap)
        with closing(task.source):
            outcome = task.done(progress)
        if kept(swap, task, outcome):
            return outcome.state
        swap.refresh_from_db()
        if swap.removed is not None:
            return swap.state


@dataclass
class _Running:
    """A task on its way; far: how much of it is done, from 0 to 1, and what it is at."""

    number: int
    swap: Swap
    task: Task
    far: float = 0.0
    note: str = "reading"


class SideBySide:
    """Prepares swaps on all cores. `begin` gives the task of one by its number, None where there is nothing to do; what is asked
    of the database is asked on the thread that calls."""

    def __init__(self, begin: Callable[[int], tuple[Swap, Task] | None], fail: Callable[[int, ZubretError], None]):
        self._begin, self._fail = begin, fail
        self._running: dict[Future[Outcome], _Running] = {}
        self._ended, self._stop = 0, False

    def prepare(self, swaps: list[int], progress: Progress) -> None:
        """All of them; each is kept as soon as it is done, and one that can't be done stops none. A swap that was changed
        meanwhile is done again."""
        waiting = iter(swaps)
        with ThreadPoolExecutor(AT_ONCE, "preparing") as pool:
            try:
                while self._fill(waiting, pool) or self._running:
                    done, _ = wait(self._running, EVERY, FIRST_COMPLETED)
                    for future in done:
                        self._take(future, pool)
                    self._tell(progress, len(swaps))
            finally:
                self._stop = True
                pool.shutdown(cancel_futures=True)
                for left in self._running.values():
                    left.task.source.close()

    def _fill(self, waiting: Iterator[int], pool: ThreadPoolExecutor) -> bool:
        """Begin as many as there are threads, and one that waits; whether one was begun."""
        begun = False
        while len(self._running) <= AT_ONCE and (number := next(waiting, None)) is not None:
            begun = self._submit(number, pool) or begun
        return begun

    def _submit(self, number: int, pool: ThreadPoolExecutor) -> bool:
        try:
            found = self._begin(number)
        except ZubretError as e:
            self._fail(number, e)
            found = None
        if found is None:
            self._ended += 1
            return False
        running = _Running(number, *found)
        self._running[pool.submit(self._do, running)] = running
        return True

    def _do(self, running: _Running) -> Outcome:
        """On a thread of the pool."""

        def told(done: int, total: int, note: str) -> None:
            if self._stop:
                raise Cancelled
            running.far, running.note = max(running.far, done / total if total else 0.0), note

        with told_to(told):
            return running.task.done(told)

    def _take(self, future: Future[Outcome], pool: ThreadPoolExecutor) -> None:
        running = self._running.pop(future)
        with closing(running.task.source):
            try:
                outcome = future.result()
                if not kept(running.swap, running.task, outcome) and self._submit(running.number, pool):
                    return
            except ZubretError as e:
                self._fail(running.number, e)
        self._ended += 1

    def _tell(self, progress: Progress, total: int) -> None:
        far = self._ended + sum(running.far for running in self._running.values())
        first = next(iter(self._running.values()), None)
        note = f"{self._ended:,} of {total:,} swaps" + (f": {first.note}" if first else "")
        progress(int(far * 1000), total * 1000, note)


def measured(swap: Swap, how: Treatment | None = None) -> AudioInfo | None:
    """The facts of what it begins from, where all are known that a treatment, or its own, needs."""
    info = AudioInfo.from_dict(swap.info) if swap.info else None
    needs_edges = (how or Treatment.from_dict(swap.treatment)).cut_silence
    return info if info and (info.knows_edges or not needs_edges) else None


def level_of_original(swap: Swap, original: CoreStream | None = None) -> Level:
    """How loud the stream is that a swap replaces; it is kept with the swap. original: the stream, where it is open already."""
    if swap.original_level:
        return Level(**swap.original_level)
    level = _level_of(original or open_original(row_of(swap, swap.locator)))
    Swap.objects.filter(pk=swap.pk).update(original_level=level.as_dict())
    return level


def _level_of(stream: CoreStream) -> Level:
    """Taken piece by piece."""
    format = stream.format
    pieces = (stream.decode(at, min(PIECE, format.frames - at)) for at in range(0, format.frames, PIECE))
    return level_of(pieces, format.rate, format.channels)


def payload_digest(source: Source) -> str:
    """By which a swap knows the payload of its original."""
    value = hashlib.blake2b(digest_size=16)
    for piece in source.chunks():
        value.update(piece)
    return value.hexdigest()


def _keep(folder: Path, payload: Source, format: Format, snr_db: float, level: Level) -> dict[str, Any]:
    """Write a payload into the folder, by digest; what a swap's row keeps of it."""
    value = hashlib.blake2b(digest_size=16)
    for piece in payload.chunks():
        value.update(piece)
    value.update(json.dumps(format.as_dict()).encode())
    digest = value.hexdigest()
    write_file(payload, folder / f"{digest}.payload")
    return {
        "digest": digest,
        "format": format.as_dict(),
        "snr_db": None if math.isinf(snr_db) else snr_db,
        "size": payload.size,
        "level": level.as_dict(),
    }


def forget_old_results(mod: Mod) -> None:
    """Remove encoded results that no swap has any more, unless a rebuild may be reading them."""
    if Job.objects.filter(game=mod.game, kind="rebuild", state__in=Job.OPEN).exists():
        return
    used = {(s.prepared or {}).get("digest") for s in mod.swaps.all()}
    for file in (mod_folder(mod) / "prepared").glob("*"):
        if file.stem not in used or file.suffix == ".meant":  # which earlier versions kept
            try:
                file.unlink(missing_ok=True)
            except OSError:  # still being heard, on a system that locks open files: next time
                continue


def enqueue(swap: Swap) -> Job:
    """Have the worker prepare a swap."""
    return start(PrepareOrder(swap.pk), f"Preparing {swap.source_name}", swap.mod.game)


@dataclass(frozen=True)
class PrepareOrder(Order):
    """Prepare a swap, by its number."""

    kind: ClassVar[str] = "prepare"
    swap: int


@dataclass(frozen=True)
class SwapPrepared:
    """The state of the swap."""

    state: str


def _settle(job: Job, order: PrepareOrder, result: SwapPrepared | None) -> None:
    """A swap does not go on waiting for a job that came to no end."""
    again = Job.objects.filter(kind=order.kind, state__in=Job.OPEN, args__swap=order.swap)
    if result is not None or again.exists():
        return
    error = job.error or {"what": "Preparing was cancelled.", "where": "", "next": TRY_AGAIN}
    if job.state == Job.CUT_OFF:
        error = {**error, "next": TRY_AGAIN}
    waiting = Swap.objects.filter(pk=order.swap, state__in=(Swap.READING, Swap.PREPARING))
    waiting.update(state=Swap.FAILED, error=error, prepared=None)


@work("quick", _settle)
def prepare_swap(job: Job, order: PrepareOrder, progress: Progress) -> SwapPrepared:
    """Read the file, report, and encode where everything fits; nothing, where a job before it did that for what is asked now."""
    swap = Swap.objects.select_related("mod__game").get(pk=order.swap)
    waits = swap.state in (Swap.READING, Swap.PREPARING)
    state = prepared_now(swap, progress) if waits else swap.state
    forget_old_results(swap.mod)
    return SwapPrepared(state)
