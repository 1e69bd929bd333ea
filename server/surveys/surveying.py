"""Surveying a game: every file with what it is, and the rows of what is in it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import chain, count
from pathlib import Path
from typing import Any, ClassVar

import xxhash
from django.conf import settings
from django.db import DatabaseError, transaction
from django.db.models import Count, F, Q, Sum
from django.db.models.functions import Coalesce, NullIf
from django.utils import timezone

from zubret_core.base import Cancelled, Progress, ZubretError
from zubret_core.container import Container, GameFile, GameFolder
from zubret_core.container.index import index_sum
from zubret_core.layout import Layout
from zubret_core.locate import Kind, Spot, try_keys
from zubret_core.locate.known import kind_by
from zubret_core.locate.recognise import AUDIO
from zubret_core.locate.sounds import PlainSounds
from zubret_core.locate.survey import ArchiveRecord, ShutRecord, contents, look_at, mistake, opened

from ..bulk import bulk_insert
from ..games.folders import original_folder
from ..games.models import Game, Key, KeyChoice, Survey, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, tidy_up, work
from ..layouts.known import Readers, known_for
from ..layouts.rules import telling, told_of
from ..shelf import groups
from ..shelf.models import Archive, Stream
from ..shelf.opening import disk_cache
from .before import NOT_COPIED, KnownArchive, files_before, known_archives
from .contents import ReadContents
from .rows import Folders, Rows, Seen, Written, readable, within
from .sounds import row_of
from .winning import find_winners

WORDS = {"file": SurveyFile.SOUND, "unreadable": SurveyFile.UNREADABLE, "locked": SurveyFile.LOCKED}
"""What a file is by the kind of its archive; any other is an archive."""


@dataclass(frozen=True)
class SurveyOrder(Order):
    """Survey the job's game; label: the survey's."""

    kind: ClassVar[str] = "survey"
    label: str = ""


@dataclass(frozen=True)
class Totals:
    """What a survey found in all; see `Survey`."""

    files: int
    bytes: int
    unpacked: int
    archives: int
    loose: int
    locked: int
    nested: int
    holders: int
    entries: int
    streams: int
    seconds: float
    stored: int
    languages: list[str]


@dataclass(frozen=True)
class Surveyed:
    """survey: its number; found: what is in the game, None where nothing has changed and the last survey stands; listing: see
    `Survey`."""

    survey: int
    listing: str
    found: Totals | None


def start_survey(game: Game, label: str = "", changed: bool = False) -> Job:
    """A survey as a job; the one that already runs, if there is one.

    changed: keys or names are not what they were, so that a survey that has begun may have used the old ones; another
    follows it.
    """
    joins = (Job.WAITING,) if changed else Job.OPEN
    return start(SurveyOrder(label), f"Survey of {game.name}", game, joins)


def _settle(job: Job, order: SurveyOrder, result: Surveyed | None) -> None:
    """A survey that was done counts from now on; of one that was not, nothing stays."""
    if result is None or result.found is not None:
        tidy_up()
    if result is None:
        return
    row = Survey.objects.select_related("game").get(pk=result.survey)
    row.finished, row.listing = timezone.now(), result.listing
    for name, value in vars(result.found).items() if result.found else ():
        setattr(row, name, value)
    row.save()
    if Archive.unread().filter(seen_in__survey=row).exists():
        start(ReadContents(row.pk), f"Contents of {row.game.name}", row.game)


@work("long", _settle)
def survey(job: Job, order: SurveyOrder, progress: Progress) -> Surveyed:
    """Read the game's folder; what is as it was at the last survey is not opened again, and where all is, that one stands."""
    game = job.game
    assert game is not None
    readers, last = Readers(game), game.current_survey()
    folder = original_folder(game)
    files = list(folder.everything())
    listing = _listing(files, readers)
    if last is not None and listing and last.listing == listing:
        return Surveyed(last.pk, listing, None)
    row = Survey.objects.create(game=game, label=order.label, read_with=readers.all())
    found = _Survey(game, row, readers, progress, folder, files).run()
    _tell_build(game, files, last)
    find_winners(row)
    shut = row.seen.filter(what__in=NOT_COPIED).exists()
    return Surveyed(row.pk, "" if shut else listing, found)


def _tell_build(game: Game, files: list[GameFile], last: Survey | None) -> None:
    """Which build it is now, where the file that says it is not as it was."""
    tells = telling() | {name for name, _ in settings.PLAYERS.values()}
    now = {(f.path, f.size, f.mtime_ns) for f in files if f.path in tells}
    before = last.seen.filter(path__in=tells).values_list("path", "size", "mtime_ns") if last else ()
    if now != set(before):
        player, build = told_of(Path(game.folder))
        Game.objects.filter(pk=game.pk).update(player=player, build=build)


def _listing(files: list[GameFile], readers: Readers) -> str:
    """A text that changes with the files, as far as their folders tell, and with what reads them; "" where one has a fault."""
    if any(file.fault for file in files):
        return ""
    lines = "\0".join([f"{path}/{size} {time} {state} {link}" for path, size, time, state, _, link in files])
    return xxhash.xxh3_128_hexdigest(f"{readers.whole()}\0{lines}".encode())


def totals(survey: Survey, files: int, bytes: int) -> Totals:
    """What a survey of so many files and bytes found in all, from its rows."""
    outside = Q(inside=False) & ~Q(what__in=(SurveyFile.COMPANION, SurveyFile.FOLDER))
    held = Coalesce(NullIf(F("archive__unpacked"), 0), F("size"))
    found = survey.seen.aggregate(
        unpacked=Sum(held, filter=outside),
        archives=Count("archive", filter=Q(inside=False) & ~Q(what=SurveyFile.SOUND)),
        loose=Count("pk", filter=Q(inside=False, what=SurveyFile.SOUND)),
        locked=Count("pk", filter=Q(what=SurveyFile.LOCKED)),
        nested=Count("pk", filter=Q(inside=True)),
        holders=Count("pk", filter=Q(streams__gt=0)),
        entries=Sum("archive__entry_count"),
        total=Sum("streams"),
        seconds=Sum("archive__seconds"),
        stored=Sum("archive__stream_bytes"),
    )
    spoken = Stream.objects.filter(archive__seen_in__survey=survey).exclude(language="")
    languages = sorted(spoken.order_by().values_list("language", flat=True).distinct())
    streams = found.pop("total") or 0
    return Totals(files, bytes, **{n: v or 0 for n, v in found.items()}, streams=streams, languages=languages)


class _Survey:
    """One run: the rows of files so far, what is known of before, and how far it is."""

    def __init__(
        self, game: Game, row: Survey, readers: Readers, progress: Progress, folder: GameFolder, files: list[GameFile]
    ):
        self.game, self.row, self.readers, self.progress, self.folder = game, row, readers, progress, folder
        self.known = known_for(game)
        self.cache = disk_cache()
        self.rows = Rows(game.pk, row.pk)
        self.seen: dict[str, Seen] = {}
        self.folders = Folders()
        self.held: dict[str, list[list[Any]]] = {}  # companions, by the path of the file that they belong to
        self.files = {f.path: f for f in files}
        self.archives, self.nested = known_archives(game)
        self.before = files_before(game, row.read_with)
        self.done, self.total, self.size = 0, 1, 0

    # The walk ---------------------------------------------------------------------------------------

    def run(self) -> Totals:
        """All files; then who belongs to whom."""
        files = self.files.values()
        self.total = sum(f.size for f in files) or 1
        with PlainSounds(self.folder, filter(self._unknown, files), self.known, row_of) as sounds:
            self.rows.meanwhile = sounds.ahead
            for file in files:
                self.size = file.size
                self.progress(self.done, self.total, f"looking at {file.path}")
                folder = within(file.path)
                self.folders.add(folder, file.size)
                sound = sounds.at(file)
                if sound is not None:
                    self.rows.sound(sound)
                    self.folders.hold(folder, 1)
                elif not self._as_before(file):
                    self._look(file)
                self.done += file.size
            self.rows.flush()
        for owner, companions in self.held.items():
            for path, _, _ in companions:
                other = self.seen.get(path)
                if other is not None and other.what == SurveyFile.OTHER:
                    other.what, other.belongs_to = SurveyFile.COMPANION, owner
                    other.evidence = f"{owner} keeps its payloads in it"
        values = (row.values(self.row.pk) for row in chain(self.seen.values(), self.folders.rows()))
        for _ in bulk_insert(SurveyFile, SurveyFile.BULK, values):
            self.progress(self.total, self.total, "writing down the files")
        groups.write_down(self.row)
        return totals(self.row, len(files), sum(f.size for f in files))

    def _file(self, file: GameFile, what: str, evidence: str) -> Seen:
        row = Seen(readable(file.path), file.size, file.mtime_ns, file.changed_ns, what, readable(evidence)[:300])
        self.seen[file.path] = row
        return row

    def _as_before(self, file: GameFile) -> bool:
        """Take over what the last survey saw, where the file and those that belong to it are as they were."""
        was = self.before.get(file.path)
        if was is None or file.fault or (was.size, was.mtime_ns, was.changed_ns) != file[1:4]:
            return False
        if was.archive is None:
            other = was.what == SurveyFile.COMPANION
            self._file(file, SurveyFile.OTHER if other else was.what, "" if other else was.evidence)
            return True
        known = next((k for k in self.archives.get(file.path, ()) if k.written.pk == was.archive and k.whole), None)
        if known is None or not self._reads_as(file.path, known) or not self._companions_stand(known):
            return False
        self._holds(self._file(file, was.what, was.evidence), known.written, self.nested.get(known.written.pk, []))
        return True

    def _reads_as(self, path: str, known: KnownArchive) -> bool:
        """Whether layouts, keys and names give an archive as its rows have it."""
        layout = self.known.layout_named(known.layout) if known.layout else None
        kind = kind_by(layout) if layout else Kind(known.written.kind, "")
        return self.readers.of(path, kind) == known.opened_with

    def _companions_stand(self, known: KnownArchive) -> bool:
        for path, size, mtime_ns in known.written.companions:
            file = self.files.get(path)
            if file is None or (file.size, file.mtime_ns) != (size, mtime_ns):
                return False
        return True

    def _holds(self, row: Seen, archive: Written, nested: list[Written]) -> None:
        """Note what a file holds: an archive, and those inside it."""
        row.archive, row.streams = archive.pk, self.rows.held(archive)
        row.held = row.streams
        if archive.companions:
            self.held[row.path] = archive.companions
        for inner in nested:
            what = WORDS.get(inner.kind, SurveyFile.ARCHIVE)
            self.seen[inner.path] = Seen(
                inner.path, inner.size, row.mtime_ns, None, what, inner.evidence, inner.pk, inside=True,
                streams=self.rows.held(inner),
            )  # fmt: skip
        for inner in nested:
            place = inner.path
            while place != row.path:
                self.seen[place].held += self.seen[inner.path].streams
                place = within(place, inside=True)
            row.held += self.seen[inner.path].streams
        self.folders.hold(within(row.path), row.held)

    def _look(self, file: GameFile) -> None:
        """Recognise a file, and read what is in it unless its rows are there."""
        with look_at(self.folder, file, self.known, self.cache) as found:
            row = self._file(file, found.what, found.evidence)
            if found.spot is not None and found.kind is not None:
                self._look_into(found.spot, found.kind, file, row)

    def _unknown(self, file: GameFile) -> bool:
        """Whether no row tells of this version of a file, and nothing is said of how to read it."""
        was = self.before.get(file.path)
        if was is not None and (was.size, was.mtime_ns, was.changed_ns) == file[1:4]:
            return False
        for known in self.archives.get(file.path, ()):
            if (known.written.size, known.mtime_ns) == (file.size, file.mtime_ns):
                return False
        return not self.readers.of(file.path, AUDIO)

    def _look_into(self, spot: Spot, kind: Kind, file: GameFile, row: Seen) -> None:
        reader = f"{kind.layout.title or kind.layout.id}: " if kind.layout else ""
        try:
            archive, *nested = self._known_archive(spot, file, kind) or self._read(spot, file, kind)
        except (Cancelled, DatabaseError):
            raise
        except Exception as e:
            told = e if isinstance(e, ZubretError) else mistake(e, file.path)
            archive, *nested = self._broken(file, kind, told)
        row.evidence = (reader + archive.evidence)[:300]
        row.what = WORDS.get(archive.kind, SurveyFile.ARCHIVE)
        self._holds(row, archive, nested)

    def _known_archive(self, spot: Spot, file: GameFile, kind: Kind) -> list[Written]:
        """The rows of a file whose size, time and index are as they were: its archive, and those inside; else nothing."""
        versions = self.archives.get(file.path)
        used = self.readers.of(file.path, kind) if versions else ""
        for known in versions or ():
            alike = (known.written.size, known.mtime_ns, known.opened_with) == (file.size, file.mtime_ns, used)
            if not (alike and known.whole and self._companions_stand(known)):
                continue
            if index_sum(spot.source, json.loads(known.index_spans)) == known.index_sum:
                return [known.written, *self.nested.get(known.written.pk, [])]
        return []

    def _forget(self, file: GameFile, used: str | None = None) -> None:
        """Remove the rows of a version of a file that are not whole, or not right any more."""
        for known in self.archives.get(file.path, ()):
            same = (known.written.size, known.mtime_ns) == (file.size, file.mtime_ns)
            if same and (not known.whole or known.opened_with == used):
                Archive.objects.filter(pk=known.written.pk).delete()

    def _broken(self, file: GameFile, kind: Kind, error: ZubretError) -> list[Written]:
        """A file at which the walk stumbled."""
        self._forget(file, "")
        return [self._shut(ShutRecord((), file.path, file.size, kind, error), file, None, "")]

    def _read(self, spot: Spot, file: GameFile, kind: Kind) -> list[Written]:
        """The rows of a file that is an archive, a bank or a sound."""
        found = opened(spot, kind, lambda: self._unlocks(spot, kind.layout))
        used = "" if isinstance(found, ShutRecord) else self.readers.of(file.path, kind)
        self._forget(file, used)
        if isinstance(found, ShutRecord):
            return [self._shut(found, file, None, "")]
        return self._keep(spot, kind, file, used)

    def _unlocks(self, spot: Spot, layout: Layout | None) -> bool:
        """Try the key ring on a locked archive, and remember what opens it."""
        if layout is None:
            return False
        ring = list(Key.objects.filter(game=self.game).order_by("pk"))
        trial = try_keys(layout, spot.source, spot.siblings, [bytes.fromhex(k.secret) for k in ring])
        if trial.opens:
            choose_keys(self.game, spot.name, {name: ring[n] for name, n in trial.chosen.items()})
            spot.known = self.known = known_for(self.game)
            self.readers = Readers(self.game)
        return trial.opens

    # Rows of what the walk finds --------------------------------------------------------------------

    def _keep(self, spot: Spot, kind: Kind, file: GameFile, used: str) -> list[Written]:
        """The rows of an archive, of its banks and streams, and of the archives inside it."""
        rows: dict[tuple, Written] = {}
        shut: list[Written] = []
        try:
            for record in contents(spot, kind, self._inside):
                outer = rows.get(())
                if isinstance(record, ArchiveRecord):
                    rows[record.chain] = self._archive(record, file, used, outer)
                elif isinstance(record, ShutRecord):
                    shut.append(self._shut(record, file, outer, used))
                else:
                    self.rows.bank(rows[record.chain].pk, file.path, record)
        except Exception:
            self.rows.drop({row.pk for row in (*rows.values(), *shut)})
            raise
        self.rows.finish(row.pk for row in rows.values())
        return sorted((*rows.values(), *shut), key=lambda row: row.pk)

    def _archive(self, record: ArchiveRecord, file: GameFile, used: str, outer: Written | None) -> Written:
        archive = record.archive
        spans, value = record.index() if outer is None else ([], "")
        row = self.rows.archive(
            path=readable(record.path),
            size=file.size if outer is None else archive.source.size,
            mtime_ns=file.mtime_ns,
            opened_with=used,
            index_spans=spans,
            index_sum=value,
            kind=archive.kind,
            layout=archive.layout_id,
            evidence=record.kind.evidence + record.skipped,
            entry_count=len(archive.entries),
            unpacked=record.unpacked,
            companions=list(self._companions(archive, file.path)) if outer is None else [],
            chain=record.chain,
            outer=outer.pk if outer else None,
        )
        self.rows.entries(row.pk, len(archive.entries), record.entries(), self._listing)
        return row

    def _shut(self, record: ShutRecord, file: GameFile, outer: Written | None, used: str) -> Written:
        return self.rows.archive(
            path=readable(record.path), size=record.size, mtime_ns=file.mtime_ns, kind=record.what,
            layout=record.kind.layout.id if record.kind.layout else "", evidence=record.kind.evidence,
            error=record.error.as_dict(), complete=True, chain=record.chain, outer=outer.pk if outer else None,
            opened_with=used, companions=[] if outer else list(self._by_name(record.kind, file.path)),
        )  # fmt: skip

    def _by_name(self, kind: Kind, path: str) -> Iterator[list[Any]]:
        """The files that belong to an archive which does not open, by the names that its layout gives them."""
        folder, _, name = path.rpartition("/")
        for model in kind.layout.files.values() if kind.layout else ():
            for volume in count(model.first) if model.volumes else (0,):
                called = model.called(name, volume)
                file = self.files.get(f"{folder}/{called}" if folder else called)
                if file is None:
                    break
                yield [file.path, file.size, file.mtime_ns]

    def _companions(self, archive: Container, path: str) -> Iterator[list[Any]]:
        folder = path.rpartition("/")[0]
        for name in archive.companions():
            file = self.files.get(f"{folder}/{name}" if folder else name)
            if file is not None:
                yield [file.path, file.size, file.mtime_ns]

    def _listing(self, part: int, parts: int, note: str) -> None:
        """Writing down an archive's entries: about a fifth of the work on a file."""
        self._tell(0.2 * part / parts if parts else 0, note)

    def _inside(self, part: int, parts: int, note: str) -> None:
        self._tell(0.2 + 0.8 * part / parts if parts else 0.2, note)

    def _tell(self, share: float, note: str) -> None:
        self.progress(self.done + int(self.size * share), self.total, note)


def choose_keys(game: Game, path: str, keys: dict[str, Key]) -> None:
    """Remember which keys open an archive."""
    with transaction.atomic():
        KeyChoice.objects.filter(game=game, path=path).delete()
        KeyChoice.objects.bulk_create(KeyChoice(game=game, path=path, name=n, key=k) for n, k in keys.items())
