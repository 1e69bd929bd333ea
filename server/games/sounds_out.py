"""Taking sounds out: what a selection means, what the files will be called, what it needs, and doing it."""

from __future__ import annotations

import shutil
import zipfile
from dataclasses import asdict
from pathlib import Path, PurePosixPath
from typing import Any

from django.conf import settings
from django.db.models import QuerySet

from zubret_core.audio import Style, written_format
from zubret_core.audio.stored import stored_ending
from zubret_core.audio.write import ending_of
from zubret_core.base import Progress, ZubretError
from zubret_core.extract import SoundItem, checked_template, export_sounds, named, read_manifest, targets_for
from zubret_core.source import whole

from ..bulk import among
from ..errors import stopped
from ..jobs.models import Job
from ..jobs.run import start, work
from ..shelf import query
from ..shelf.filters import Filter
from ..shelf.models import Stream
from ..shelf.sound import open_original
from .models import Game
from .taking_out import SHOWN, ZIP_NAME, export_folder, nearest, remembered

EXAMPLES = 6
"""Names that a plan shows."""


def streams_chosen(game: Game, chosen: list[int], filter: Filter) -> QuerySet[Stream]:
    """The streams of a selection, or of a filter as Locate has it; in the order in which they stand in the game."""
    rows = query.streams_of(game).filter(pk__in=among(chosen)) if chosen else query.filtered(game, filter)
    return query.described(rows, game).order_by("archive__path", "bank__entry_index", "ordinal", "pk")


def style_of(how: dict[str, Any]) -> Style:
    """The core's style by a request; ZubretError for a value that can't be."""
    tags = tuple(sorted((k, v.strip()[:300]) for k, v in how["tags"].items() if v.strip()))
    return Style(how["kind"], how["plays"], how["fade"], how["loudness"], tags)


def items_of(rows: QuerySet[Stream], how: dict[str, Any]) -> tuple[list[SoundItem], list[dict[str, str]]]:
    """What is written, each with its target; and those whose names had to be changed, with the reason."""
    style, template = style_of(how), checked_template(how["template"])
    found, paths = list(rows), []
    for number, row in enumerate(found, 1):
        format = row.format()
        name = named(template, _facts(row, number)) + "." + ending_of(format, style)
        if how["folders"]:
            entry = "" if row.bank.entry_path == PurePosixPath(row.archive.path).name else row.bank.entry_path
            name = "/".join(x for x in (row.archive.folder(), entry, name) if x)
        paths.append(name)
    items, notes = [], []
    for number, (row, target) in enumerate(zip(found, targets_for(paths), strict=True), 1):
        shown = getattr(row, "shown", row.name)
        tags = [("title", shown)] if shown and "title" not in dict(style.tags) else []
        if how["number_tracks"]:
            tags.append(("track", str(number)))
        title = shown or f"{row.bank.name} {row.stream_id}"
        source = str(row.where())
        items.append(SoundItem(row.pk, source, row.format(), target.path, title, row.bank.language, tuple(tags)))
        if target.note:
            notes.append({"target": target.path, "source": source, "note": target.note})
    return items, notes


def _facts(row: Stream, number: int) -> dict[str, object]:
    seconds, entry = round(row.seconds), PurePosixPath(row.bank.entry_path)
    return {
        "bank": Path(row.bank.name).stem,
        "id": row.stream_id,
        "name": getattr(row, "shown", row.name),
        "language": row.bank.language,
        "entry": str(entry.with_suffix("")) if entry.name else "",
        "archive": PurePosixPath(row.archive.file_path()).stem,
        "number": number,
        "length": f"{seconds // 60}m{seconds % 60:02}",
        "rate": row.rate,
        "channels": row.channels,
        "codec": row.codec,
        "kind": getattr(row, "shown_kind", row.kind),
    }


def plan(rows: QuerySet[Stream], how: dict[str, Any], folder: str) -> dict[str, Any]:
    """How many files and roughly how many bytes, how much room there is, and what they would be called."""
    items, notes = items_of(rows, how)
    style = style_of(how)
    out = export_folder(folder) if folder else settings.DATA_DIR
    there = read_manifest(out) if folder else {}
    free, need = shutil.disk_usage(nearest(out)).free, sum(i.size(style) for i in items)
    seconds = sum(f.frames / f.rate for f in (written_format(i.format, style) for i in items))
    decoded = sum(not stored_ending(i.format) for i in items) if style.kind == "stored" else 0
    return {
        "files": len(items),
        "bytes": need,
        "seconds": seconds,
        "free": free,
        "fits": need <= free,
        "there": sum(i.target in there for i in items),
        "renamed": len(notes),
        "decoded": decoded,
        "names": [i.target for i in items[:EXAMPLES]],
        "notes": notes[:SHOWN],
    }


def start_sounds_out(game: Game, chosen: list[int], filter: Filter, how: dict[str, Any], folder: str) -> Job:
    """Take streams out as a job: into a folder, or into a ZIP file where none is given."""
    style_of(how)
    checked_template(how["template"])
    count = streams_chosen(game, chosen, filter).count()
    if not count:
        raise stopped(409, "Nothing is chosen.", "Choose streams, or take the filter away.")
    folder = remembered(folder)
    title = f"Taking out {count:,} {'sound' if count == 1 else 'sounds'} of {game.name}"
    return start("sounds", title, game, chosen=chosen, filter=filter.dict(), how=how, folder=folder)


@work("sounds", "long")
def take_sounds_out(job: Job, progress: Progress) -> dict[str, Any]:
    """Write what the job's arguments choose; the same arguments again go on where a cut was."""
    game, args = job.game, job.args
    assert game is not None
    how = args["how"]
    rows = streams_chosen(game, args["chosen"], Filter(**args["filter"]))
    items, notes = items_of(rows, how)
    by_key = {row.pk: row for row in rows}
    scratch = None
    if args["folder"]:
        out = export_folder(args["folder"])
    else:
        scratch = settings.DATA_DIR / "exports" / str(job.pk)
        Job.objects.filter(pk=job.pk).update(scratch=str(scratch))
        out = scratch / "sounds"
    report = export_sounds(
        items,
        out,
        lambda item: open_original(by_key[item.key]),
        style_of(how),
        figures=how["figures"],
        playlist=how["playlist"],
        progress=progress,
    )
    if scratch:
        _zip(out, scratch / ZIP_NAME, progress)
    failed, result = report.failed, asdict(report)
    return {
        **result,
        "failed": failed[:SHOWN],
        "failed_count": len(failed),
        "notes": notes[:SHOWN],
        "renamed": len(notes),
        "folder": "" if scratch else str(out),
        "zip": bool(scratch),
    }


def _zip(folder: Path, place: Path, progress: Progress) -> None:
    """All files of a folder in one ZIP file, as they are; the folder is removed."""
    files = sorted(p for p in folder.rglob("*") if p.is_file())
    try:
        with whole(place) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as pack:
            for n, file in enumerate(files):
                progress(n, len(files), "putting them into one ZIP file")
                pack.write(file, file.relative_to(folder).as_posix())
    except OSError as e:
        raise ZubretError(
            f"The ZIP file can't be written: {e.strerror}.", file=place.name, next="Free some space, then start again."
        ) from e
    finally:
        shutil.rmtree(folder, ignore_errors=True)
