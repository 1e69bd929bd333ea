"""Surveying a game: every file with what it is, and the rows of what is in it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import xxhash
from django.db import connection, transaction
from django.utils import timezone

from zubret_core.audio.measure import guess
from zubret_core.base import Progress, ZubretError
from zubret_core.container import Container, Entry, GameFile, GameFolder
from zubret_core.container.index import index_spans, index_sum
from zubret_core.layout import Layout
from zubret_core.locate import (
    FoundArchive,
    FoundBank,
    Kind,
    Locator,
    Locked,
    Spot,
    inside,
    kind_of,
    try_keys,
)
from zubret_core.locate.recognise import DEEPEST, MOST_NESTED

from ..bulk import bulk_insert
from ..jobs.models import Job
from ..jobs.run import start, work
from ..layouts.known import known_for, opened_with
from ..shelf.models import Archive, Bank, Stream, pack_locator
from ..shelf.models import Entry as EntryRow
from ..shelf.opening import disk_cache, opened
from .models import Game, Key, KeyChoice, Survey, SurveyFile

NOT_KNOWN = "no layout's mark and no known signature stands in it"


def start_survey(game: Game, label: str = "", changed: bool = False) -> Job:
    """A survey as a job; the one that already runs, if there is one.

    changed: keys or names are not what they were, so that a survey that has begun may have used the old ones; another
    follows it.
    """
    Job.objects.reap()
    states = [Job.WAITING] if changed else Job.OPEN
    running = Job.objects.filter(game=game, kind="survey", state__in=states).first()
    return running or start("survey", f"Survey of {game.name}", game, label=label)


@work("survey", "long")
def survey(job: Job, progress: Progress) -> dict[str, Any]:
    """Read the game's folder; archives that are known by path, size, time and index are not read again."""
    game = job.game
    assert game is not None
    row = Survey.objects.create(game=game, label=job.args.get("label", ""))
    try:
        done = _Survey(game, row, progress).run()
        Survey.objects.filter(pk=row.pk).update(finished=timezone.now(), **done)
    except BaseException:
        row.delete()
        raise
    if Archive.objects.filter(seen_in__survey=row, digested=False, complete=True, error__isnull=True).exists():
        start("digest", f"Contents of {game.name}", game, survey=row.pk)
    return {"survey": row.pk, "files": done["files"]}


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
        files = list(self.folder.files())
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
        row = SurveyFile(survey=self.row, path=file.path, size=file.size, mtime_ns=file.mtime_ns, evidence=NOT_KNOWN)
        self.seen[file.path] = row
        with self.folder.open(file.path) as source:
            try:
                kind = kind_of(source, self.known)
            except ZubretError as e:
                row.what, row.evidence = SurveyFile.UNREADABLE, str(e)[:300]
                return
        if kind is None:
            return
        reader = f"{kind.layout.title or kind.layout.id}: " if kind.layout else ""
        row.evidence = (reader + kind.evidence)[:300]
        if kind.is_list:
            row.what = SurveyFile.LIST
            return
        archive = self._known_archive(file, kind) or self._read(file, kind)
        row.archive = archive
        row.evidence = (reader + archive.evidence)[:300]
        words = {"file": SurveyFile.SOUND, "unreadable": SurveyFile.UNREADABLE, "locked": SurveyFile.LOCKED}
        row.what = words.get(archive.kind, SurveyFile.ARCHIVE)
        for nested in archive.nested.filter(complete=True).order_by("pk"):
            self.seen[nested.path] = SurveyFile(
                survey=self.row, path=nested.path, size=nested.size, mtime_ns=file.mtime_ns, inside=True,
                what=words.get(nested.kind, SurveyFile.ARCHIVE), evidence=nested.evidence, archive=nested,
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

    def _read(self, file: GameFile, kind: Kind) -> Archive:
        """The rows of a file that is an archive, a bank or a sound."""
        facts = {"game": self.game, "path": file.path, "size": file.size, "mtime_ns": file.mtime_ns}
        Archive.objects.filter(**facts, complete=False).delete()  # a survey was cut off in the middle of it
        Archive.objects.filter(**facts, error__isnull=False).delete()
        try:
            archive = self._opened(file, kind)
        except Locked as e:
            return Archive.objects.create(
                **facts,
                kind="locked",
                layout=_id(kind.layout),
                evidence=kind.evidence,
                error=e.as_dict(),
                complete=True,
            )
        except ZubretError as e:
            return Archive.objects.create(
                **facts, kind="unreadable", layout=_id(kind.layout), evidence=kind.evidence, error=e.as_dict(),
                complete=True,
            )  # fmt: skip
        facts["opened_with"] = opened_with(self.game, file.path, kind)
        Archive.objects.filter(**facts).delete()
        facts["index_spans"] = index_spans(archive)
        facts["index_sum"] = index_sum(archive.source, facts["index_spans"])
        try:
            return self._keep(archive, kind, facts, [], None)
        finally:
            archive.source.close()

    def _opened(self, file: GameFile, kind: Kind) -> Container:
        try:
            archive = Spot.file(self.folder, file.path, self.known, disk_cache(), f"{file.path}/{file.mtime_ns}").opened
        except Locked:
            if kind.layout is None or not self._unlock(file.path, kind.layout):
                raise
            archive = Spot.file(self.folder, file.path, self.known, disk_cache(), f"{file.path}/{file.mtime_ns}").opened
        if archive is None:
            raise ZubretError("The file could not be opened as an archive.", file=file.path, next="Survey again.")
        return archive

    def _unlock(self, path: str, layout: Layout) -> bool:
        """Try the key ring on a locked archive, and remember what opens it."""
        ring = list(Key.objects.filter(game=self.game).order_by("pk"))
        with self.folder.open(path) as source:
            trial = try_keys(layout, source, self.folder.beside(path), [bytes.fromhex(k.secret) for k in ring])
        if trial.opens:
            choose_keys(self.game, path, {name: ring[n] for name, n in trial.chosen.items()})
            self.known = known_for(self.game)
        return trial.opens

    def _keep(
        self, archive: Container, kind: Kind, facts: dict[str, Any], chain: list, outer: Archive | None
    ) -> Archive:
        """The rows of an archive, its banks and streams, and of the archives inside it."""
        entries = archive.entries
        row = Archive.objects.create(
            **facts,
            kind=archive.kind,
            layout=archive.layout_id,
            evidence=(kind.evidence + _passed_over(archive))[:300],
            entry_count=len(entries),
            unpacked=sum(e.size for e in entries),
            companions=self._companions(archive, facts["path"]) if not chain else [],
            chain=chain,
            outer=outer,
        )
        rows = (entry_row(row.pk, n, e, archive.label(n)) for n, e in enumerate(entries))
        for n in bulk_insert(EntryRow, EntryRow.BULK, rows):
            self._inside(n, len(entries), f"writing down {row.path}")
        for found in inside(archive, self.known, disk_cache(), (outer or row).version(), self._inside):
            if isinstance(found, FoundBank):
                keep_bank(row, entries[found.entry], archive.label(found.entry), found)
            else:
                self._keep_nested(archive, found, row, outer or row)
        Archive.objects.filter(pk=row.pk).update(complete=True)
        return row

    def _keep_nested(self, around: Container, found: FoundArchive, row: Archive, outer: Archive) -> None:
        entry = around.entries[found.entry]
        chain = [*row.chain, [entry.path, found.entry]]
        facts = {
            "game": self.game, "path": readable(f"{row.path} › {around.label(found.entry)}"), "size": entry.size,
            "mtime_ns": outer.mtime_ns, "opened_with": outer.opened_with,
        }  # fmt: skip
        problem = found.error
        if len(chain) > DEEPEST or outer.nested.count() >= MOST_NESTED:
            problem = ZubretError(
                f"Archives stand more than {DEEPEST} deep or are more than {MOST_NESTED:,} here.",
                file=facts["path"],
                next="Take this one out and survey it by itself.",
            )
        if problem is None and found.archive is not None:
            self._keep(found.archive, found.kind, facts, chain, outer)
            return
        kind = "locked" if isinstance(problem, Locked) else "unreadable"
        Archive.objects.create(
            **facts, kind=kind, layout=_id(found.kind.layout), evidence=found.kind.evidence, chain=chain, outer=outer,
            error=problem.as_dict() if problem else None, complete=True,
        )  # fmt: skip

    def _companions(self, archive: Container, path: str) -> list:
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


def _passed_over(archive: Container) -> str:
    """What an archive holds that is no entry, in words: links and devices of a TAR."""
    skipped = archive.skipped
    if not skipped:
        return ""
    first = "; ".join(f"{path}: {why}" for path, why in skipped[:3])
    members = "1 member is" if len(skipped) == 1 else f"{len(skipped):,} members are"
    return f"; {members} passed over ({first}{'; …' if len(skipped) > 3 else ''})"


def _id(layout: Layout | None) -> str:
    return layout.id if layout else ""


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


def keep_bank(archive: Archive, entry: Entry, label: str, found: FoundBank) -> None:
    """The rows of a bank and its streams."""
    bank = Bank.objects.create(
        archive=archive,
        entry_index=found.entry,
        entry_path=readable(label),
        name=readable(found.name),
        layout=found.layout_id,
        language=found.language,
        error=found.error.as_dict() if found.error else None,
    )
    steps = (*((path, n) for path, n in archive.chain), (entry.path, found.entry))
    rows = []
    for s in found.streams:
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
                guess(f, found.language)[0],
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
    total, done, count = sum(a.unpacked for a in archives) or 1, 0, 0
    for archive in archives:
        progress(done, total, f"reading {archive.path}")
        try:
            container = opened(archive)
        except ZubretError:
            continue  # changed or gone since: the next survey sees it anew
        batch: list[tuple[int, int, int]] = []
        for n, entry in enumerate(container.entries):
            value = xxhash.xxh3_64()
            try:
                for piece in container.open(n, disk_cache(), f"{archive.version()}/{n}").chunks():
                    value.update(piece)
                    progress(done, total, f"reading {archive.path}")
            except ZubretError:
                continue  # who takes it out is told why
            number = value.intdigest()
            batch.append((number - (1 << 64) if number >> 63 else number, archive.pk, n))
            done += entry.size
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
