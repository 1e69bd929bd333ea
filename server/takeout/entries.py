"""Taking entries out: what a selection means, what it would need, and doing it."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar

from django.conf import settings
from django.db.models import Count, QuerySet, Sum

from zubret_core.base import Progress, ZubretError
from zubret_core.extract import Item, Report, extract, extract_zip, read_manifest, targets_for
from zubret_core.locate.spot import IN

from ..bulk import among
from ..errors import stopped
from ..games.folders import allowed, original_folder
from ..games.models import ExportFolder, Game, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.known import known_for
from ..shelf.models import Archive, Entry, numbered, seen_by
from ..shelf.opening import check_unchanged, disk_cache, version_of
from ..surveys.tree import around, outermost

ZIP_NAME = "taken out.zip"
LOOKED = 2000
"""Files whose names a plan works out; those of all are worked out when they are taken out."""
SHOWN = 200
"""Failures and changed names that a job's result lists; the manifest and its problems file have all."""


def entries_of(game: Game, archives: list[int], q: str, chosen: list[int]) -> QuerySet[Entry]:
    """Entries of the current survey: those chosen, or of some archives and a filter; of the whole game without copies.

    Without archives, entries of archives inside others are left out: they come out with what holds them.
    """
    survey = game.current_survey()
    if chosen:
        return numbered(Entry.objects.all(), chosen, survey)
    if archives:
        rows = Entry.objects.filter(seen_by(survey), archive__in=among(archives))
    else:
        rows = Entry.objects.filter(archive__seen_in__survey=survey, archive__outer__isnull=True)
    for word in q.split():
        rows = rows.filter(path__icontains=word)
    return rows


def archives_of(game: Game, files: list[int]) -> list[int]:
    """The archives and loose sounds among some files of the current survey, by its numbers; of a folder all below it. What is
    inside another one of them comes out with that."""
    survey = game.current_survey()
    if survey is None:
        return []
    rows = outermost(survey, files)
    held = {row.archive_id for row in rows if row.archive_id}
    folders = {row.path for row in rows if row.what == SurveyFile.FOLDER}
    if folders:
        outside = survey.seen.filter(inside=False, archive__isnull=False).values_list("archive", "path").iterator()
        held |= {archive for archive, path in outside if not folders.isdisjoint(around(path))}
    return sorted(held)


def items_of(
    game: Game, rows: QuerySet[Entry], flat: bool, most: int | None = None
) -> tuple[list[Item], list[dict[str, str]]]:
    """What is taken out, each with its target; and the targets whose names had to be changed, with the reason. most: only
    the first so many."""
    columns = rows.order_by("archive", "ordinal").values_list("archive", "ordinal", "path", "size", "at")
    found = list(columns[:most] if most else columns)
    within = {row[0] for row in found}
    archives = {a.pk: a for a in Archive.objects.select_related("outer").filter(pk__in=among(list(within)))}
    several = len(within) > 1 or (bool(found) and rows.exclude(archive=found[0][0]).exists())
    paths = [f"{archives[a].folder()}/{path}" if several else path for a, _, path, _, _ in found]
    targets = targets_for(paths, flat=flat)
    items, notes = [], []
    for (a, ordinal, path, size, at), target in zip(found, targets, strict=True):
        archive = archives[a]
        chain = (*(n for _, n in archive.chain), ordinal)
        name = IN.join(x for x in (archive.inside(), path) if x)
        items.append(Item(archive.file_path(), chain, size, target.path, name, at))
        if target.note:
            notes.append({"target": target.path, "source": f"{archive.path}{IN}{path}", "note": target.note})
    return items, notes


def export_folder(text: str) -> Path:
    """A folder that may be written to: below the library roots and outside every game."""
    place = Path(text.strip())
    if not place.is_absolute():
        raise stopped(422, "Give the folder's whole path.", "Choose a folder from the list and add a name.", text)
    place = place.resolve()  # only then is it known where it leads
    parent = nearest(place)
    if not parent.is_dir():
        raise stopped(422, "This is a file, not a folder.", "Choose another name.", text)
    allowed(str(parent))
    own = settings.DATA_DIR.resolve()
    if place == own or own in place.parents:
        raise stopped(403, "Zubret keeps its own data here.", "Choose another folder.", text)
    if not os.access(parent, os.W_OK):
        raise stopped(403, "This folder can't be written to.", "Choose another folder, or change its rights.", text)
    for game in Game.objects.all():
        folder = Path(game.folder)
        if place == folder or folder in place.parents:
            raise stopped(
                403, f"This folder is inside the game {game.name}.", "Nothing is written there: choose another.", text
            )
    return place


def nearest(place: Path) -> Path:
    """The folder or file that is there, of a path and those above it."""
    while not place.exists() and place != place.parent:
        place = place.parent
    return place


def remembered(folder: str) -> str:
    """The whole path of an export folder, offered again the next time; "" stays."""
    if not folder:
        return ""
    place = str(export_folder(folder))
    ExportFolder.objects.get_or_create(path=place)
    return place


def plan(game: Game, rows: QuerySet[Entry], flat: bool, folder: str) -> dict[str, Any]:
    """How many files and bytes, how much room there is, and which of the first would be called differently."""
    items, notes = items_of(game, rows, flat, LOOKED)
    all = rows.order_by().aggregate(files=Count("pk"), bytes=Sum("size"))
    out = export_folder(folder) if folder else settings.DATA_DIR
    there = read_manifest(out) if folder else {}
    free, need = shutil.disk_usage(nearest(out)).free, all["bytes"] or 0
    return {
        "files": all["files"],
        "bytes": need,
        "free": free,
        "fits": need <= free,
        "there": sum(i.target in there for i in items),
        "renamed": len(notes),
        "looked": len(items),
        "notes": notes[:SHOWN],
    }


def start_taking_out(game: Game, archives: list[int], q: str, chosen: list[int], flat: bool, folder: str) -> Job:
    """Take entries out as a job: into a folder, or into a ZIP file where none is given."""
    rows = entries_of(game, archives, q, chosen)
    count = rows.count()
    if not count:
        raise stopped(409, "Nothing is chosen.", "Choose an archive with entries, or take the filter away.")
    folder = remembered(folder)
    title = f"Taking out {count:,} {'entry' if count == 1 else 'entries'} of {game.name}"
    return start(EntriesOut(archives, q, chosen, flat, folder), title, game)


@dataclass(frozen=True)
class EntriesOut(Order):
    """Take entries of the job's game out: those chosen by number, or by archives (none: of the whole game) and words; into a folder, or "" for a ZIP
    file."""

    kind: ClassVar[str] = "extract"
    archives: list[int]
    q: str
    chosen: list[int]
    flat: bool
    folder: str


@dataclass
class TakenOut(Report):
    """What was taken out: the first failures and notes of each kind, and how many there are; folder: where it is, or download:
    the name of the file to be downloaded."""

    failed_count: int = 0
    notes: list[dict[str, str]] = field(default_factory=list)
    renamed: int = 0
    folder: str = ""
    download: str = ""

    @classmethod
    def of(cls, report: Report, notes: list[dict[str, str]], folder: str = "", download: str = "") -> TakenOut:
        """A report for its job's row."""
        told = {**vars(report), "failed": report.failed[:SHOWN], "failed_count": len(report.failed)}
        return cls(**told, notes=notes[:SHOWN], renamed=len(notes), folder=folder, download=download)


@work("long")
def take_out(job: Job, order: EntriesOut, progress: Progress) -> TakenOut:
    """Write what the job's order chooses; the same order again goes on where a cut was."""
    game = job.game
    assert game is not None
    progress(0, 0, "working out the files' names")
    items, notes = items_of(game, entries_of(game, order.archives, order.q, order.chosen), order.flat)
    versions = _versions(game, items)
    folder, known = original_folder(game), known_for(game)
    if order.folder:
        out = export_folder(order.folder)
        report = extract(folder, items, out, known, disk_cache(), progress, lambda path: versions[path])
        return TakenOut.of(report, notes, str(out))
    scratch = settings.DATA_DIR / "exports" / str(job.pk)
    Job.objects.filter(pk=job.pk).update(scratch=str(scratch))
    scratch.mkdir(parents=True, exist_ok=True)
    place = scratch / ZIP_NAME
    report = extract_zip(folder, items, place, known, disk_cache(), progress, lambda path: versions[path])
    return TakenOut.of(report, notes, download=place.name)


def _versions(game: Game, items: list[Item]) -> dict[str, str]:
    """The version of each file that is read, which must be the surveyed one."""
    out = {}
    survey, wanted = game.current_survey(), {i.archive for i in items}
    rows = Archive.objects.filter(seen_in__survey=survey, outer__isnull=True).select_related("game", "outer")
    for row in (row for row in rows.iterator() if row.path in wanted):
        check_unchanged(row)
        out[row.path] = version_of(row)
    missing = {i.archive for i in items} - set(out)
    if missing:
        raise ZubretError("The survey has changed meanwhile.", file=min(missing), next="Choose the entries again.")
    return out


def download_of(job: Job) -> Path:
    """The file that a job has made."""
    name = str(job.result.get("download") or "") if job.state == Job.DONE else ""
    place = settings.DATA_DIR / "exports" / str(job.pk) / name
    if not name or not place.is_file():
        raise stopped(410, "The file is not there (any more).", "Take it out again.")
    return place
