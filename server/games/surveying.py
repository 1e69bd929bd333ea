"""Surveying a game: every file with what it is, and the rows of what is in it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from django.db import DatabaseError, connection, transaction
from django.utils import timezone

from zubret_core.audio.measure import guess
from zubret_core.base import Cancelled, Progress, ZubretError
from zubret_core.container import Container, Entry, GameFile, GameFolder
from zubret_core.container.index import index_sum
from zubret_core.layout import Layout
from zubret_core.locate import BankRecord, Kind, Locator, Spot, try_keys
from zubret_core.locate.survey import ArchiveRecord, ShutRecord, contents, digests, look_at, mistake, opened

from ..bulk import bulk_insert
from ..jobs.models import Job
from ..jobs.run import start, work
from ..layouts.known import known_for, opened_with
from ..shelf.models import Archive, Bank, Stream, pack_locator
from ..shelf.models import Entry as EntryRow
from ..shelf.opening import disk_cache, spot_of
from ..tidy import tidy_up
from .models import Game, Key, KeyChoice, Survey, SurveyFile

WORDS = {"file": SurveyFile.SOUND, "unreadable": SurveyFile.UNREADABLE, "locked": SurveyFile.LOCKED}
"""What a file is by the kind of its archive; any other is an archive."""


def start_survey(game: Game, label: str = "", changed: bool = False) -> Job:
    """A survey as a job; the one that already runs, if there is one.

    changed: keys or names are not what they were, so that a survey that has begun may have used the old ones; another
    follows it.
    """
    joins = (Job.WAITING,) if changed else Job.OPEN
    return start("survey", f"Survey of {game.name}", game, joins, label=label)


def _settle(job: Job) -> None:
    """A survey that was done counts from now on; of one that was not, nothing stays."""
    tidy_up()
    if job.state != Job.DONE:
        return
    row = Survey.objects.select_related("game").get(pk=job.result["survey"])
    row.finished, row.files, row.bytes = timezone.now(), job.result["files"], job.result["bytes"]
    row.save()
    if Archive.objects.filter(seen_in__survey=row, digested=False, complete=True, error__isnull=True).exists():
        start("digest", f"Contents of {row.game.name}", row.game, survey=row.pk)


@work("survey", "long", _settle)
def survey(job: Job, progress: Progress) -> dict[str, Any]:
    """Read the game's folder; archives that are known by path, size, time and index are not read again."""
    game = job.game
    assert game is not None
    row = Survey.objects.create(game=game, label=job.args.get("label", ""))
    return {"survey": row.pk, **_Survey(game, row, progress).run()}


class _Survey:
    """One run: the files that were seen, and how far it is."""

    def __init__(self, game: Game, row: Survey, progress: Progress):
        self.game, self.row, self.progress = game, row, progress
        self.folder = GameFolder(Path(game.folder))
        self.known = known_for(game)
        self.seen: dict[str, SurveyFile] = {}
        self.done, self.total = 0, 1

    def run(self) -> dict[str, int]:
        """All files; then who belongs to whom."""
        files = list(self.folder.everything())
        self.total = sum(f.size for f in files) or 1
        for file in files:
            self.progress(self.done, self.total, f"looking at {file.path}")
            self._look(file)
            self.done += file.size
        for seen in list(self.seen.values()):
            for path, _, _ in seen.archive.companions if seen.archive and not seen.inside else ():
                other = self.seen.get(path)
                if other is not None and other.what == SurveyFile.OTHER:
                    other.what, other.belongs_to = SurveyFile.COMPANION, seen.path
                    other.evidence = f"{seen.path} keeps its payloads in it"
        SurveyFile.objects.bulk_create(self.seen.values(), batch_size=500)
        return {"files": len(files), "bytes": sum(f.size for f in files)}

    def _look(self, file: GameFile) -> None:
        found = look_at(self.folder, file, self.known)
        row = SurveyFile(
            survey=self.row, path=readable(file.path), size=file.size, mtime_ns=file.mtime_ns, what=found.what,
            evidence=readable(found.evidence)[:300],
        )  # fmt: skip
        self.seen[file.path] = row
        if not found.holds_something or found.kind is None:
            return
        kind = found.kind
        reader = f"{kind.layout.title or kind.layout.id}: " if kind.layout else ""
        try:
            archive = self._known_archive(file, kind) or self._read(file, kind)
        except (Cancelled, DatabaseError):
            raise
        except Exception as e:
            archive = self._broken(file, kind, e)
        row.archive = archive
        row.evidence = (reader + archive.evidence)[:300]
        row.what = WORDS.get(archive.kind, SurveyFile.ARCHIVE)
        for nested in archive.nested.filter(complete=True).order_by("pk"):
            self.seen[nested.path] = SurveyFile(
                survey=self.row, path=nested.path, size=nested.size, mtime_ns=file.mtime_ns, inside=True,
                what=WORDS.get(nested.kind, SurveyFile.ARCHIVE), evidence=nested.evidence, archive=nested,
            )  # fmt: skip

    def _known_archive(self, file: GameFile, kind: Kind) -> Archive | None:
        same = Archive.objects.filter(
            game=self.game, path=file.path, size=file.size, mtime_ns=file.mtime_ns, complete=True, error__isnull=True,
            opened_with=opened_with(self.game, file.path, kind),
        ).first()  # fmt: skip
        if same is None:
            return None
        with self.folder.open(file.path) as source:
            if index_sum(source, same.index_spans) != same.index_sum:
                return None
        for path, size, mtime_ns in same.companions:
            place = self.folder.locate(path)
            if not place.is_file() or (place.stat().st_size, place.stat().st_mtime_ns) != (size, mtime_ns):
                return None
        return same

    def _broken(self, file: GameFile, kind: Kind, error: Exception) -> Archive:
        """The row of a file at which the walk stumbled: nothing else of it stays."""
        Archive.objects.filter(game=self.game, path=file.path, complete=False).delete()
        told = error if isinstance(error, ZubretError) else mistake(error, file.path)
        return self._shut(ShutRecord((), file.path, file.size, kind, told), file, None, "")

    def _read(self, file: GameFile, kind: Kind) -> Archive:
        """The rows of a file that is an archive, a bank or a sound."""
        same = Archive.objects.filter(game=self.game, path=file.path, size=file.size, mtime_ns=file.mtime_ns)
        same.filter(complete=False).delete()  # a survey was cut off in the middle of it
        same.filter(error__isnull=False).delete()
        spot = Spot.file(self.folder, file.path, self.known, disk_cache(), f"{file.path}/{file.mtime_ns}")
        found = opened(spot, kind, lambda: self._unlocks(spot, kind.layout))
        if isinstance(found, ShutRecord):
            return self._shut(found, file, None, "")
        same.filter(opened_with=opened_with(self.game, file.path, kind)).delete()
        try:
            return self._keep(spot, kind, file)
        finally:
            spot.source.close()

    def _unlocks(self, spot: Spot, layout: Layout | None) -> bool:
        """Try the key ring on a locked archive, and remember what opens it."""
        if layout is None:
            return False
        ring = list(Key.objects.filter(game=self.game).order_by("pk"))
        trial = try_keys(layout, spot.source, spot.siblings, [bytes.fromhex(k.secret) for k in ring])
        if trial.opens:
            choose_keys(self.game, spot.name, {name: ring[n] for name, n in trial.chosen.items()})
            spot.known = self.known = known_for(self.game)
        return trial.opens

    # Rows of what the walk finds --------------------------------------------------------------------

    def _keep(self, spot: Spot, kind: Kind, file: GameFile) -> Archive:
        """The rows of an archive, of its banks and streams, and of the archives inside it."""
        rows: dict[tuple, Archive] = {}
        used = opened_with(self.game, file.path, kind)
        for record in contents(spot, kind, self._inside):
            outer = rows.get(())
            if isinstance(record, ArchiveRecord):
                rows[record.chain] = self._archive(record, file, used, outer)
            elif isinstance(record, ShutRecord):
                self._shut(record, file, outer, used)
            else:
                keep_bank(rows[record.chain], record)
        Archive.objects.filter(pk__in=[row.pk for row in rows.values()]).update(complete=True)
        return rows[()]

    def _archive(self, record: ArchiveRecord, file: GameFile, used: str, outer: Archive | None) -> Archive:
        archive = record.archive
        spans, value = record.index() if outer is None else ([], "")
        row = Archive.objects.create(
            game=self.game,
            path=readable(record.path),
            size=file.size if outer is None else archive.source.size,
            mtime_ns=file.mtime_ns,
            opened_with=used,
            index_spans=spans,
            index_sum=value,
            kind=archive.kind,
            layout=archive.layout_id,
            evidence=(record.kind.evidence + record.skipped)[:300],
            entry_count=len(archive.entries),
            unpacked=record.unpacked,
            companions=self._companions(archive, file.path) if outer is None else [],
            chain=[list(step) for step in record.chain],
            outer=outer,
        )
        entries = (entry_row(row.pk, n, entry, label) for n, entry, label in record.entries())
        for n in bulk_insert(EntryRow, EntryRow.BULK, entries):
            self._inside(n, len(archive.entries), f"writing down {row.path}")
        return row

    def _shut(self, record: ShutRecord, file: GameFile, outer: Archive | None, used: str) -> Archive:
        return Archive.objects.create(
            game=self.game, path=readable(record.path), size=record.size, mtime_ns=file.mtime_ns, kind=record.what,
            layout=record.kind.layout.id if record.kind.layout else "", evidence=record.kind.evidence[:300],
            error=record.error.as_dict(), complete=True, chain=[list(step) for step in record.chain], outer=outer,
            opened_with=used,
        )  # fmt: skip

    def _companions(self, archive: Container, path: str) -> list[list]:
        folder, out = path.rpartition("/")[0], []
        for name in archive.companions():
            place = f"{folder}/{name}" if folder else name
            if self.folder.locate(place).is_file():
                stat = self.folder.locate(place).stat()
                out.append([place, stat.st_size, stat.st_mtime_ns])
        return out

    def _inside(self, part: int, parts: int, note: str) -> None:
        size = next(reversed(self.seen.values())).size if self.seen else 0
        self.progress(self.done + (size * part // parts if parts else 0), self.total, note)


def choose_keys(game: Game, path: str, keys: dict[str, Key]) -> None:
    """Remember which keys open an archive."""
    with transaction.atomic():
        KeyChoice.objects.filter(game=game, path=path).delete()
        KeyChoice.objects.bulk_create(KeyChoice(game=game, path=path, name=n, key=k) for n, k in keys.items())


def entry_row(archive: int, n: int, entry: Entry, label: str) -> tuple:
    """An entry as a row for `bulk_insert`, in the order of `Entry.BULK`."""
    path = readable(label)
    raw = None if path == entry.path else entry.path.encode("utf-8", "surrogateescape")
    return archive, n, path, raw, entry.at, entry.stored, entry.size, entry.method, entry.crc32, entry.file, None


def readable(text: str) -> str:
    """Text that may hold undecodable bytes, with those written out."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def keep_bank(archive: Archive, record: BankRecord) -> None:
    """The rows of a bank and its streams."""
    bank = Bank.objects.create(
        archive=archive,
        entry_index=record.entry,
        entry_path=readable(record.label),
        name=readable(record.name),
        layout=record.layout_id,
        language=record.language,
        error=record.error.as_dict() if record.error else None,
    )
    steps = (*record.chain, (record.path, record.entry))
    rows = []
    for s in record.streams:
        f = s.format
        locator = Locator(archive.file_path(), steps, s.id, s.ordinal)
        rows.append(
            (
                archive.pk,
                bank.pk,
                pack_locator(locator),
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
                json.dumps(dict(f.parameters)),
                s.at,
                s.stored,
                len(s.shares),
                ",".join(s.keeps),
                guess(f, record.language)[0],
            )
        )
    for _ in bulk_insert(Stream, Stream.BULK, rows):
        pass


# Digests of contents ---------------------------------------------------------------------------


@work("digest", "background")
def digest(job: Job, progress: Progress) -> dict[str, Any]:
    """The xxh3-64 of every entry of a survey's archives, so that surveys can be compared by content."""
    rows = Archive.objects.filter(
        seen_in__survey=job.args["survey"], digested=False, complete=True, error__isnull=True
    ).select_related("game", "outer")
    archives = list(rows.distinct())
    total, before, count = sum(a.unpacked for a in archives) or 1, 0, 0
    for archive in archives:

        def step(done: int, _: int, note: str, start: int = before) -> None:
            progress(start + done, total, note)

        step(0, 0, f"reading {archive.path}")
        try:
            spot = spot_of(archive)
        except ZubretError:
            continue  # changed or gone since: the next survey sees it anew
        batch: list[tuple[int, int, int]] = []
        for found in digests(spot, step):
            number = found.value
            batch.append((number - (1 << 64) if number >> 63 else number, archive.pk, found.entry))
            before += found.size
            count += 1
            if len(batch) >= 5000:
                _keep_digests(batch)
        _keep_digests(batch)
        Archive.objects.filter(pk=archive.pk).update(digested=True)
    return {"entries": count}


def _keep_digests(batch: list[tuple[int, int, int]]) -> None:
    table = connection.ops.quote_name(EntryRow._meta.db_table)
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.executemany(f"UPDATE {table} SET digest = %s WHERE archive_id = %s AND ordinal = %s", batch)
    batch.clear()
