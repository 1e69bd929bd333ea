"""Registering and surveying games."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from zubret_core.base import Progress, ZubretError
from zubret_core.container import Entry, GameFile, GameFolder
from zubret_core.locate import FoundBank, Locator, banks_of, open_archive
from zubret_core.source import DiskCache

from ..bulk import bulk_insert
from ..errors import stopped
from ..jobs.models import Job
from ..jobs.run import start, work
from ..mods.models import Mod
from ..shelf.models import Archive, Bank, Stream, pack_locator
from ..shelf.models import Entry as EntryRow
from .models import Game, Survey, SurveyFile


def disk_cache() -> DiskCache:
    """The cache of unpacked entries."""
    return DiskCache(settings.DATA_DIR / "cache", settings.CACHE_BYTES)


def allowed(path: str) -> Path:
    """A folder inside the library roots; an error for any other, `..` and links resolved."""
    place = Path(path).resolve()
    if not any(place == root or root in place.parents for root in settings.LIBRARY_ROOTS):
        roots = ", ".join(str(r) for r in settings.LIBRARY_ROOTS)
        raise stopped(
            403, "This folder is outside the folders that Zubret may read.", f"Choose one below {roots}.", path
        )
    if not place.is_dir():
        raise stopped(404, "There is no such folder.", "Choose one from the list.", path)
    return place


def folders_in(path: str) -> dict[str, Any]:
    """The folders inside one, for choosing a game; with no path the roots themselves."""
    if not path:
        return {
            "path": "",
            "parent": None,
            "folders": [{"name": str(r), "path": str(r)} for r in settings.LIBRARY_ROOTS],
        }
    place = allowed(path)
    try:
        inside = sorted((p for p in place.iterdir() if p.is_dir() and not p.name.startswith(".")), key=lambda p: p.name)
    except OSError as e:
        raise stopped(403, f"The folder can't be listed: {e.strerror}.", "Choose another folder.", path) from e
    parent = "" if place in settings.LIBRARY_ROOTS else str(place.parent)
    return {
        "path": str(place),
        "parent": parent,
        "folders": [{"name": p.name, "path": str(p)} for p in inside if os.access(p, os.R_OK | os.X_OK)],
    }


def register(folder: str, name: str = "") -> Game:
    """A game by its folder, with a first mod; the same folder twice is the same game."""
    place = allowed(folder)
    player = build = ""
    settings_file = place / "ferry.ini"
    if settings_file.is_file():
        lines = settings_file.read_text("utf-8", "replace")[:1000].splitlines()
        if lines[:1] == ["[ferry]"]:
            player = "standin"
            build = next((x[6:66] for x in lines if x.startswith("build=")), "")
    with transaction.atomic():
        game, made = Game.objects.get_or_create(
            folder=str(place), defaults={"name": name or place.name, "player": player, "build": build}
        )
        if made:
            Mod.objects.create(game=game, name="First mod")
    return game


def start_survey(game: Game) -> Job:
    """A survey as a job; the one that already runs, if there is one."""
    Job.objects.reap()
    running = Job.objects.filter(game=game, kind="survey", state__in=Job.OPEN).first()
    return running or start("survey", f"Survey of {game.name}", game)


@work("survey", "long")
def survey(job: Job, progress: Progress) -> dict[str, Any]:
    """Read the game's folder; archives that are known by path, size and time are not read again."""
    game = job.game
    assert game is not None
    folder = GameFolder(Path(game.folder))
    row = Survey.objects.create(game=game)
    try:
        files = list(folder.files())
        total = sum(f.size for f in files) or 1
        seen: list[SurveyFile] = []
        done = 0
        for file in files:
            progress(done, total, f"looking at {file.path}")

            def inside(part: int, parts: int, note: str, before: int = done, size: int = file.size) -> None:
                progress(before + (size * part // parts if parts else 0), total, note)

            archive = _known(game, file) or _read(game, folder, file, inside)
            seen.append(SurveyFile(survey=row, path=file.path, size=file.size, mtime_ns=file.mtime_ns, archive=archive))
            done += file.size
        SurveyFile.objects.bulk_create(seen, batch_size=500)
        Survey.objects.filter(pk=row.pk).update(
            finished=timezone.now(), files=len(files), bytes=sum(f.size for f in files)
        )
    except BaseException:
        row.delete()
        raise
    return {"survey": row.pk, "files": len(files)}


def _known(game: Game, file: GameFile) -> Archive | None:
    same = Archive.objects.filter(
        game=game, path=file.path, size=file.size, mtime_ns=file.mtime_ns, complete=True, error__isnull=True
    )
    return same.first()


def _read(game: Game, folder: GameFolder, file: GameFile, progress: Progress) -> Archive | None:
    """The rows of a file that is an archive; None where nothing recognises it."""
    facts = {"game": game, "path": file.path, "size": file.size, "mtime_ns": file.mtime_ns}
    Archive.objects.filter(**facts, complete=False).delete()  # a survey was cut off in the middle of it
    Archive.objects.filter(**facts, error__isnull=False).delete()
    source = folder.open(file.path)
    try:
        try:
            archive = open_archive(source)
        except ZubretError as e:
            return Archive.objects.create(**facts, kind="unreadable", error=e.as_dict(), complete=True)
        if archive is None:
            return None
        row = Archive.objects.create(
            **facts,
            kind=archive.kind,
            layout=archive.layout_id,
            entry_count=len(archive.entries),
            unpacked=sum(e.size for e in archive.entries),
        )
        entries = archive.entries
        for done in bulk_insert(EntryRow, EntryRow.BULK, (entry_row(row.pk, n, e) for n, e in enumerate(entries))):
            progress(done, len(entries), f"writing down {file.path}")
        for found in banks_of(archive, disk_cache(), row.version(), progress):
            _keep_bank(row, entries[found.entry], found)
        Archive.objects.filter(pk=row.pk).update(complete=True)
        return row
    finally:
        source.close()


def entry_row(archive: int, n: int, entry: Entry) -> tuple:
    """An entry as a row for `bulk_insert`, in the order of `Entry.BULK`."""
    path = readable(entry.path)
    raw = None if path == entry.path else entry.path.encode("utf-8", "surrogateescape")
    return archive, n, path, raw, entry.at, entry.stored, entry.size, entry.method, entry.crc32


def readable(text: str) -> str:
    """Text that may hold undecodable bytes, with those written out."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def _keep_bank(archive: Archive, entry: Entry, found: FoundBank) -> None:
    bank = Bank.objects.create(
        archive=archive,
        entry_index=found.entry,
        entry_path=readable(entry.path),
        name=readable(found.name),
        layout=found.layout_id,
        language=found.language,
        error=found.error.as_dict() if found.error else None,
    )
    rows = []
    for s in found.streams:
        f = s.format
        locator = Locator(archive.path, entry.path, found.entry, s.id, s.ordinal)
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
                s.at,
                s.stored,
                len(s.shares),
                ",".join(s.keeps),
            )
        )
    for _ in bulk_insert(Stream, Stream.BULK, rows):
        pass
