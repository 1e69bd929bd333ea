"""The rows of what a survey finds in files: gathered, and written in short transactions of some thousand rows.

One survey is made at a time, so that archives and banks are numbered here, before their rows are written; nothing has to be
asked of the database for a file.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, ExitStack, nullcontext
from dataclasses import dataclass
from typing import Any, NamedTuple

from django.db import transaction

from zubret_core.audio.measure import likely_kind
from zubret_core.base import Progress
from zubret_core.container import Entry
from zubret_core.locate import BankRecord
from zubret_core.locate.spot import IN

from ..bulk import insert, next_number
from ..games.models import SurveyFile
from ..shelf.models import Archive, Bank, Stream, as_json, pack_locator
from ..shelf.models import Entry as EntryRow
from ..shelf.words import index_words
from . import sounds

MOST = 5_000
"""Rows that are gathered before they are written."""
STREAMS = ("stream_count", "seconds", "stream_bytes")
ARCHIVE = (
    "id", "game", "path", "size", "mtime_ns", "kind", "layout", "entry_count", "unpacked", *STREAMS, "evidence", "chain",
    "outer", "companions", "index_spans", "index_sum", "opened_with", "error", "complete", "digested",
)  # fmt: skip
BANK = ("id", "archive", "entry_index", "entry_path", "name", "layout", "language", "error")
_PLAIN: dict[str, Any] = {
    "layout": "", "entry_count": 0, "unpacked": 0, **dict.fromkeys(STREAMS, 0), "evidence": "", "chain": (), "outer": None, "companions": (),
    "index_spans": (), "index_sum": "", "opened_with": "", "error": None, "complete": False, "digested": False,
}  # fmt: skip
_AS_JSON = frozenset(("chain", "companions", "index_spans", "error"))


@dataclass(slots=True)
class Seen:
    """A row of `SurveyFile` while a survey runs; archive: its number."""

    path: str
    size: int
    mtime_ns: int
    changed_ns: int | None
    what: str
    evidence: str
    archive: int | None = None
    inside: bool = False
    belongs_to: str = ""
    streams: int = 0
    held: int = 0
    count: int = 0

    def values(self, survey: int) -> tuple:
        """In the order of `SurveyFile.BULK`."""
        return (survey, self.path, within(self.path, self.inside), self.size, self.mtime_ns, self.changed_ns, self.inside,
                self.what, self.evidence, self.belongs_to, self.archive, self.streams, self.held, self.count)  # fmt: skip


def within(path: str, inside: bool = False) -> str:
    """The folder in which a file stands, or the archive around one inside it; "" for the game's own folder."""
    return path.rpartition(IN if inside else "/")[0]


class Folders:
    """The folders around files, with the bytes, the number and the streams of all that is below them."""

    def __init__(self) -> None:
        self._files: dict[str, list[int]] = {}

    def add(self, place: str, size: int) -> None:
        """A file of so many bytes stands in this folder; "" is the game's own."""
        found = self._files.setdefault(place, [0, 0, 0])
        found[0] += size
        found[1] += 1

    def hold(self, place: str, streams: int) -> None:
        """A file in this folder, or an archive inside it, holds so many streams."""
        self._files[place][2] += streams

    def rows(self) -> Iterator[Seen]:
        """All of them but the game's own."""
        found: dict[str, Seen] = {}
        for place, (size, count, held) in self._files.items():
            while place:
                folder = found.setdefault(place, Seen(place, 0, 0, None, SurveyFile.FOLDER, ""))
                folder.size += size
                folder.count += count
                folder.held += held
                place = within(place)
        yield from found.values()


class Written(NamedTuple):
    """An archive whose row is written or will be, as far as a survey's own rows need it. streams: in a row that is whole."""

    pk: int
    path: str
    size: int
    kind: str
    evidence: str
    companions: list[list[Any]]
    streams: int = 0


class Rows:
    """Rows on their way into the database; `flush` writes all that were gathered. meanwhile: what else may go on then."""

    def __init__(self, game: int, survey: int):
        self.game, self.survey = game, survey
        self._archive, self._bank = next_number(Archive), next_number(Bank)
        self._archives: dict[int, dict[str, Any]] = {}
        self._banks: list[tuple] = []
        self._entries: list[tuple] = []
        self._streams: list[tuple] = []
        self._sounds: list[tuple] = []
        self._complete: list[tuple[int, list]] = []
        self._streamed: dict[int, list] = {}
        self.meanwhile: Callable[[], AbstractContextManager] = nullcontext
        self._held: dict[int, int] = {}
        self._count = 0

    def archive(self, **values: Any) -> Written:
        """A new archive by its fields; it is complete once `finish` is told so."""
        number, self._archive = self._archive, self._archive + 1
        row = {**_PLAIN, **values, "id": number, "game": self.game, "evidence": values["evidence"][:300]}
        self._archives[number] = row
        self._gathered(1)
        return Written(number, row["path"], row["size"], row["kind"], row["evidence"], list(row["companions"]))

    def finish(self, archives: Iterable[int]) -> None:
        """All rows of these archives have been handed over."""
        for number in archives:
            streamed = self._streamed.pop(number, [0, 0.0, 0])
            if streamed[0]:
                self._held[number] = streamed[0]
            if number in self._archives:
                self._archives[number] |= {**dict(zip(STREAMS, streamed, strict=True)), "complete": True}
            else:
                self._complete.append((number, streamed))

    def held(self, archive: Written) -> int:
        """How many streams an archive holds that is finished, or was before."""
        return self._held.get(archive.pk, archive.streams)

    def drop(self, archives: set[int]) -> None:
        """Archives of which nothing is to stay."""
        for number in archives & self._archives.keys():
            del self._archives[number]
            self._streamed.pop(number, None)
        self._banks = [b for b in self._banks if b[1] not in archives]
        self._entries = [e for e in self._entries if e[0] not in archives]
        self._streams = [s for s in self._streams if s[0] not in archives]
        Archive.objects.filter(pk__in=archives).delete()

    def entries(self, archive: int, count: int, entries: Iterable[tuple[int, Entry, str]], progress: Progress) -> None:
        """The entries of an archive: number, entry, what people call it."""
        for n, entry, label in entries:
            self._entries.append(entry_row(archive, n, entry, label))
            if self._gathered(1):
                progress(n, count, "writing down entries")

    def bank(self, archive: int, file: str, record: BankRecord) -> None:
        """A bank and its streams; `file` is the one in which it stands."""
        number, self._bank = self._bank, self._bank + 1
        error = as_json(record.error.as_dict()) if record.error else None
        self._banks.append(
            (number, archive, record.entry, readable(record.label), readable(record.name), record.layout_id,
             record.language, error)
        )  # fmt: skip
        self._streams += stream_rows(archive, number, file, record)
        streamed = self._streamed.setdefault(archive, [0, 0.0, 0])
        streamed[0] += len(record.streams)
        streamed[1] += sum(s.format.frames / s.format.rate for s in record.streams)
        streamed[2] += sum(s.stored for s in record.streams)
        self._gathered(1 + len(record.streams))

    def sound(self, row: tuple) -> None:
        """A loose sound, by `sounds.row_of`: all its rows, that of the file as well."""
        self._sounds.append(row)
        self._gathered(5)

    def _gathered(self, count: int) -> bool:
        """Count rows, and write all when there are enough; whether that was done."""
        self._count += count
        if self._count < MOST:
            return False
        self.flush()
        return True

    def flush(self) -> None:
        """Write what was gathered, in one transaction."""
        archives = [
            [as_json(row[f]) if f in _AS_JSON and row[f] is not None else row[f] for f in ARCHIVE]
            for row in self._archives.values()
        ]
        with ExitStack() as beside, transaction.atomic():
            insert(Archive, ARCHIVE, archives)
            insert(Bank, BANK, self._banks)
            insert(EntryRow, EntryRow.BULK, self._entries)
            first = next_number(Stream)
            insert(Stream, Stream.BULK, self._streams)
            sounds.hand_over(self._sounds)
            beside.enter_context(self.meanwhile())  # until the commit is done, too
            sounds.insert_sounds(self.survey, self.game, self._archive - 1, self._bank - 1)
            index_words(first)
            for number, streamed in self._complete:
                Archive.objects.filter(pk=number).update(complete=True, **dict(zip(STREAMS, streamed, strict=True)))
        self._archive, self._bank = self._archive + len(self._sounds), self._bank + len(self._sounds)
        self._archives, self._count = {}, 0
        self._banks, self._entries, self._streams, self._sounds, self._complete = [], [], [], [], []


def entry_row(archive: int, n: int, entry: Entry, label: str) -> tuple:
    """An entry as a row, in the order of `Entry.BULK`."""
    path = readable(label)
    raw = None if path == entry.path else entry.path.encode("utf-8", "surrogateescape")
    return archive, n, path, raw, entry.at, entry.stored, entry.size, entry.method, entry.crc32, entry.file, None


def readable(text: str) -> str:
    """Text that may hold undecodable bytes, with those written out."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def stream_rows(archive: int, bank: int, file: str, record: BankRecord) -> list[tuple]:
    """The streams of a bank as rows, in the order of `Stream.BULK`."""
    steps, rows = (*record.chain, (record.path, record.entry)), []
    for s in record.streams:
        f = s.format
        rows.append(
            (
                archive,
                bank,
                pack_locator(file, steps, s.id, s.ordinal),
                s.ordinal,
                readable(s.id),
                readable(s.name),
                f.codec,
                f.variant,
                f.rate,
                f.channels,
                f.frames,
                f.frames / f.rate,
                f.loop.start if f.loop else None,
                f.loop.end if f.loop else None,
                f.block_size,
                as_json(dict(f.parameters)) if f.parameters else "{}",
                s.at,
                s.stored,
                len(s.shares),
                ",".join(s.keeps),
                likely_kind(f, s.language, f"{file}/{record.label}"),
                s.language,
                as_json(dict(s.said)) if s.said else "{}",
            )
        )
    return rows
