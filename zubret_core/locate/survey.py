"""The walk of a survey: what each file of a game is, and all that is in it, as a stream of plain records.

Nothing here knows of a database. One bad file, bank or layout never ends the walk: it becomes a record with its error.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import partial
from posixpath import basename
from typing import NamedTuple

import xxhash

from ..bank import Bank, Stream
from ..bank.many import MOST, Surveyed, survey_many
from ..base import Cancelled, Progress, ZubretError, silent
from ..container import Container, Entry, GameFile, GameFolder
from ..container.index import index_spans, index_sum
from ..layout import Layout
from ..source import DiskCache
from .known import Kind, Known, Locked, kind_by
from .recognise import kind_of, kinds_inside
from .spot import Spot, Step

NOT_KNOWN = "no layout's mark and no known signature stands in it"
DEEPEST = 16
"""Archives inside archives at most."""
MOST_NESTED = 4096
"""Archives that are opened inside one file at most."""
OTHER, LIST, ARCHIVE, SOUND, LOCKED, UNREADABLE = "other", "list", "archive", "sound", "locked", "unreadable"
"""What a file is."""


@dataclass
class FileRecord:
    """One file of a game: what it is, by which evidence, and why it can't be read where that is so. spot: it, open, where it
    holds something; leaving the record closes it."""

    file: GameFile
    what: str = OTHER
    evidence: str = NOT_KNOWN
    kind: Kind | None = None
    error: ZubretError | None = None
    spot: Spot | None = None

    def __enter__(self) -> FileRecord:
        return self

    def __exit__(self, *exc: object) -> None:
        if self.spot is not None:
            self.spot.source.close()


@dataclass
class ArchiveRecord:
    """An opened archive. chain: the entries on the way to it, none for a file; path: as people call it; entries: its
    table, with what people call each; index: where its index stands, and the sum of that."""

    chain: tuple[Step, ...]
    path: str
    kind: Kind
    archive: Container
    skipped: str = ""

    @property
    def unpacked(self) -> int:
        """Bytes of all entries, unpacked."""
        return sum(self.archive.sizes())

    def entries(self) -> Iterator[tuple[int, Entry, str]]:
        """(number, entry, what people call it)."""
        archive = self.archive
        return ((n, e, archive.labels.get(e.path, e.path)) for n, e in enumerate(archive.entries))

    def index(self) -> tuple[list[tuple[int, int]], str]:
        """Where its index stands, and the sum of these bytes."""
        spans = index_spans(self.archive)
        return spans, index_sum(self.archive.source, spans)


@dataclass
class ShutRecord:
    """An archive that can't be opened: locked, or unreadable."""

    chain: tuple[Step, ...]
    path: str
    size: int
    kind: Kind
    error: ZubretError

    @property
    def what(self) -> str:
        """locked or unreadable."""
        return LOCKED if isinstance(self.error, Locked) else UNREADABLE


@dataclass
class BankRecord:
    """A bank at an entry of the archive at `chain`, or why it can't be read."""

    chain: tuple[Step, ...]
    entry: int
    path: str
    label: str
    layout_id: str = ""
    language: str = ""
    streams: list[Stream] = field(default_factory=list)
    error: ZubretError | None = None

    @property
    def name(self) -> str:
        """What people call it, without folders."""
        return basename(self.label.rstrip("/"))


class Digest(NamedTuple):
    """The xxh3-64 of an entry's unpacked bytes."""

    entry: int
    value: int
    size: int


Record = ArchiveRecord | ShutRecord | BankRecord


def mistake(error: Exception, where: str) -> ZubretError:
    """A fault of ours as an error that a row can show."""
    return ZubretError(
        f"Zubret made a mistake here ({type(error).__name__}: {error}).",
        file=where,
        next="The rest was surveyed. If it is a layout of yours, check it on the bench; else report this.",
    )


def look_at(folder: GameFolder, file: GameFile, known: Known, cache: DiskCache | None = None) -> FileRecord:
    """What a file that was listed is, by its head; to be left as a context."""
    record = FileRecord(file)
    try:
        if file.fault:
            raise file.fault
        source = folder.open_listed(file)
        try:
            kind = kind_of(source, known)
        except BaseException:
            source.close()
            raise
    except ZubretError as e:
        record.error = e
    except Exception as e:
        record.error = mistake(e, file.path)
    else:
        if kind is not None:
            record.kind = kind
            reader = f"{kind.layout.title or kind.layout.id}: " if kind.layout else ""
            record.evidence, record.what = reader + kind.evidence, LIST if kind.is_list else ARCHIVE
        if kind is None or kind.is_list:
            source.close()
        else:
            key = f"{file.path}/{file.mtime_ns}"
            record.spot = Spot(file.path, source, folder.beside(file.path), known, cache, key, kind)
        return record
    record.what, record.evidence = UNREADABLE, record.error.what
    return record


def opened(spot: Spot, kind: Kind, unlock: Callable[[], bool] = lambda: False) -> Container | ShutRecord:
    """A file of this kind as an archive, or why it can't be opened. unlock: tries keys, and says whether that changed
    anything; then the spot is opened once more by what `spot.known` gives."""
    try:
        try:
            return spot.archive
        except Locked:
            if not unlock():
                raise
            spot.__dict__.pop("opened", None)
            return spot.archive
    except ZubretError as e:
        return ShutRecord((), spot.name, spot.source.size, kind, e)
    except Exception as e:
        return ShutRecord((), spot.name, spot.source.size, kind, mistake(e, spot.name))


def contents(spot: Spot, kind: Kind, progress: Progress = silent) -> Iterator[Record]:
    """All that is in an opened file: its archive, then every bank and archive inside, in table order, at any depth.

    progress counts entries of the archive that is being walked.
    """
    count = [0]
    yield from _within(spot, kind, (), count, progress)


def _within(spot: Spot, kind: Kind, chain: tuple[Step, ...], count: list[int], progress: Progress) -> Iterator[Record]:
    archive = spot.archive
    yield ArchiveRecord(chain, spot.name, kind, archive, passed_over(archive))
    total, named = len(archive.entries), spot.name
    alike: list[tuple[int, bytes]] = []
    layout: Layout | None = None
    for n, found, head in kinds_inside(archive, spot.known, kind):
        if n % 256 == 0:
            progress(n, total, f"looking into {named}")
        together = not found.is_archive and found.layout is not None and bool(head) and archive.is_plain(n)
        if alike and (not together or found.layout is not layout or len(alike) == MOST):
            yield from _banks(spot, alike, layout, chain)
            alike = []
        if together:
            layout = found.layout
            alike.append((n, head))
        elif found.is_archive:
            step = archive.entries[n].path, n
            yield from _nested(spot, n, found, (*chain, step), count, progress)
        else:
            yield _bank(spot, n, found, chain)
    yield from _banks(spot, alike, layout, chain)
    progress(total, total, f"looked into {named}")


def _banks(
    spot: Spot, alike: list[tuple[int, bytes]], layout: Layout | None, chain: tuple[Step, ...]
) -> Iterator[BankRecord]:
    """Banks of one layout that follow each other: together where that is possible, else one by one."""
    if not alike or layout is None:
        return
    archive, kind = spot.archive, kind_by(layout)
    numbers, sizes = [n for n, _ in alike], archive.sizes()
    opens = [partial(_opened_bank, spot, n, kind) for n in numbers]
    found: list[Surveyed | None] = [None] * len(alike)
    if len(alike) > 1:
        try:
            found = survey_many(layout, [h for _, h in alike], [sizes[n] for n in numbers], opens)
        except Exception:  # each by itself tells what is wrong
            found = [None] * len(alike)
    for n, bank in zip(numbers, found, strict=True):
        if bank is None:
            yield _bank(spot, n, kind, chain)
            continue
        path = archive.path(n)
        label = archive.labels.get(path, path)
        yield BankRecord(chain, n, path, label, layout.id, bank.language, bank.streams)


def _opened_bank(spot: Spot, n: int, kind: Kind) -> Bank:
    return spot.entry(n).bank_of(kind)


def _nested(
    spot: Spot, n: int, kind: Kind, chain: tuple[Step, ...], count: list[int], progress: Progress
) -> Iterator[Record]:
    archive = spot.archive
    name, size = f"{spot.name} › {archive.label(n)}", archive.entries[n].size
    count[0] += 1
    try:
        if len(chain) > DEEPEST or count[0] > MOST_NESTED:
            raise ZubretError(
                f"Archives stand more than {DEEPEST} deep or are more than {MOST_NESTED:,} here.",
                file=name,
                next="Take this one out and survey it by itself.",
            )
        inner = spot.entry(n)
        assert inner.archive is not None
    except ZubretError as e:
        yield ShutRecord(chain, name, size, kind, e)
    except Cancelled:
        raise
    except Exception as e:
        yield ShutRecord(chain, name, size, kind, mistake(e, name))
    else:
        yield from _within(inner, kind, chain, count, progress)


def _bank(spot: Spot, n: int, kind: Kind, chain: tuple[Step, ...]) -> BankRecord:
    archive = spot.archive
    record = BankRecord(chain, n, archive.entries[n].path, archive.label(n))
    try:
        bank: Bank = spot.entry(n).bank_of(kind)
        record.layout_id, record.language, record.streams = bank.layout_id, bank.language, bank.streams
    except ZubretError as e:
        record.error = e
    except Exception as e:
        record.error = mistake(e, f"{spot.name} › {record.label}")
    return record


def passed_over(archive: Container) -> str:
    """What an archive holds that is no entry, in words: links and devices of a TAR."""
    skipped = archive.skipped
    if not skipped:
        return ""
    first = "; ".join(f"{path}: {why}" for path, why in skipped[:3])
    members = "1 member is" if len(skipped) == 1 else f"{len(skipped):,} members are"
    return f"; {members} passed over ({first}{'; …' if len(skipped) > 3 else ''})"


def digests(spot: Spot, progress: Progress = silent) -> Iterator[Digest]:
    """The digest of every entry's content; what can't be unpacked is passed over, for who takes it out is told why.

    progress counts unpacked bytes.
    """
    archive, done = spot.archive, 0
    total = sum(archive.sizes())
    for n, entry in enumerate(archive.entries):
        value = xxhash.xxh3_64()
        try:
            for piece in archive.open(n, spot.cache, f"{spot.key}/{n}").chunks():
                value.update(piece)
                progress(done, total, f"reading {spot.name}")
        except ZubretError:
            continue
        done += entry.size
        yield Digest(n, value.intdigest(), entry.size)


def banks_of(archive: Container, known: Known | None = None) -> Iterator[BankRecord]:
    """Every bank and audio file of an archive, in table order; archives inside it are left out."""
    spot = Spot.around(archive, known)
    return (_bank(spot, n, kind, ()) for n, kind, _ in kinds_inside(archive, spot.known) if not kind.is_archive)
