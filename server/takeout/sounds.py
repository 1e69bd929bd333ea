"""Taking sounds out: what a selection means, what the files will be called, what it needs, and doing it."""

from __future__ import annotations

import shutil
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

from django.conf import settings
from django.db.models import Count, Q, QuerySet, Sum

from zubret_core.audio import Style, written_format
from zubret_core.audio.stored import stored_ending
from zubret_core.audio.write import ending_of
from zubret_core.base import Progress, ZubretError, silent
from zubret_core.extract import (
    SoundItem,
    checked_template,
    export_sounds,
    named,
    read_manifest,
    targets_for,
    written_size,
)
from zubret_core.extract.names import MANIFEST
from zubret_core.source import whole

from ..bulk import among
from ..errors import stopped
from ..games.models import Game
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..shelf import query
from ..shelf.facts import COLUMNS, Facts
from ..shelf.filters import Filter
from ..shelf.models import Archive, Stream, format_of, numbered, unpack_locator
from ..shelf.sound import open_original
from .entries import LOOKED, SHOWN, ZIP_NAME, TakenOut, export_folder, nearest, remembered

EXAMPLES = 6
"""Names that a plan shows."""


def streams_chosen(game: Game, chosen: list[int], filter: Filter) -> QuerySet[Stream]:
    """The streams of a selection, or of a filter as Locate has it; in the order in which they stand in the game."""
    if chosen:
        rows = numbered(Stream.objects.all(), chosen, game.current_survey())
    else:
        rows = query.filtered(game, filter)
    return query.described(rows, game).order_by("archive__path", "bank__entry_index", "ordinal", "pk")


def style_of(how: dict[str, Any]) -> Style:
    """The core's style by a request; ZubretError for a value that can't be."""
    tags = tuple(sorted((k, v.strip()[:300]) for k, v in how["tags"].items() if v.strip()))
    return Style(how["kind"], how["plays"], how["fade"], how["loudness"], tags)


def items_of(
    rows: QuerySet[Stream], how: dict[str, Any], most: int | None = None, progress: Progress = silent
) -> tuple[list[SoundItem], list[dict[str, str]]]:
    """What is written, each with its target; and those whose names had to be changed, with the reason. most: only the
    first so many."""
    style, template = style_of(how), checked_template(how["template"])
    around = Archive.objects.filter(pk__in=rows.order_by().values("archive")).select_related("outer")
    archives = {a.pk: a for a in around}
    columns = rows.select_related(None).values_list(*COLUMNS)
    total, found, paths = rows.count(), [], []
    for number, values in enumerate(columns[:most].iterator() if most else columns.iterator(), 1):
        row = Facts._make(values)
        archive = archives[row.archive]
        name = f"{named(template, row.fields(archive.file_path(), number))}.{ending_of(row.format(), style)}"
        if how["folders"]:
            entry = "" if row.entry == archive.path.rpartition("/")[2] else row.entry
            name = "/".join(x for x in (archive.folder(), entry, name) if x)
        found.append(row)
        paths.append(name)
        if number % 500 == 0:
            progress(0, 0, f"naming file {number:,} of {total:,}")
    items, notes = [], []
    for number, (row, target) in enumerate(zip(found, targets_for(paths), strict=True), 1):
        tags = [("title", row.shown)] if row.shown and "title" not in dict(style.tags) else []
        if how["number_tracks"]:
            tags.append(("track", str(number)))
        title = row.shown or f"{row.bank} {row.stream_id}"
        source = str(unpack_locator(row.locator))
        items.append(SoundItem(row.pk, source, row.format(), target.path, title, row.language, tuple(tags)))
        if target.note:
            notes.append({"target": target.path, "source": source, "note": target.note})
    return items, notes


def plan(rows: QuerySet[Stream], how: dict[str, Any], folder: str) -> dict[str, Any]:
    """How many files and roughly how many bytes, how much room there is, and what the first of them would be called."""
    style, needed = style_of(how), _needed(rows, style_of(how))
    items, notes = items_of(rows, how, LOOKED)
    out = export_folder(folder) if folder else settings.DATA_DIR
    there = read_manifest(out) if folder else {}
    free = shutil.disk_usage(nearest(out)).free
    return {
        **needed,
        "decoded": needed["decoded"] if style.kind == "stored" else 0,
        "free": free,
        "fits": needed["bytes"] <= free,
        "there": sum(i.target in there for i in items),
        "renamed": len(notes),
        "looked": len(items),
        "names": [i.target for i in items[:EXAMPLES]],
        "notes": notes[:SHOWN],
    }


def _needed(rows: QuerySet[Stream], style: Style) -> dict[str, Any]:
    """Files, bytes and seconds of all streams, and how many no open format holds as they are; streams of one format are
    taken together, since all these grow in proportion to their frames."""
    out = {"files": 0, "bytes": 0, "seconds": 0.0, "decoded": 0}
    alike = ("codec", "variant", "rate", "channels", "block_size", "parameters", "looped")
    groups = rows.select_related(None).order_by().annotate(looped=Q(loop_start__isnull=False)).values(*alike)
    sums = groups.annotate(
        n=Count("pk"), length=Sum("frames"), first=Sum("loop_start"), last=Sum("loop_end")
    ).values_list(*alike[:-1], "n", "length", "first", "last")
    for codec, variant, rate, channels, block_size, parameters, n, length, first, last in sums.iterator():
        whole = format_of(codec, variant, rate, channels, length, first, last, block_size, parameters)
        faded = round(style.fade * rate) * (n - 1) if style.plays and whole.loop else 0
        written = written_format(whole, style)
        frames = written.frames + faded * written.rate // rate
        out["files"] += n
        out["bytes"] += written_size(frames, channels, style, n)
        out["seconds"] += frames / written.rate
        out["decoded"] += 0 if stored_ending(whole) else n
    return out


class _Rows:
    """The rows of streams that are written one after the other, some at a time."""

    def __init__(self, items: list[SoundItem]):
        self._keys = [item.key for item in items]
        self._at = {key: n for n, key in enumerate(self._keys)}
        self._rows: dict[int, Stream] = {}

    def __getitem__(self, key: int) -> Stream:
        if key not in self._rows:
            n = self._at[key]
            some = Stream.objects.filter(pk__in=among(self._keys[n : n + 500]))
            self._rows = {row.pk: row for row in some.select_related("archive__game", "archive__outer")}
        if key not in self._rows:
            raise ZubretError("The survey has changed meanwhile.", next="Choose the streams again.")
        return self._rows[key]


def start_sounds_out(game: Game, chosen: list[int], filter: Filter, how: dict[str, Any], folder: str) -> Job:
    """Take streams out as a job: into a folder, or into a ZIP file where none is given."""
    style_of(how)
    checked_template(how["template"])
    count = streams_chosen(game, chosen, filter).count()
    if not count:
        raise stopped(409, "Nothing is chosen.", "Choose streams, or take the filter away.")
    folder = remembered(folder)
    title = f"Taking out {count:,} {'sound' if count == 1 else 'sounds'} of {game.name}"
    return start(SoundsOut(chosen, filter.dict(), how, folder), title, game)


@dataclass(frozen=True)
class SoundsOut(Order):
    """Take streams of the job's game out: those chosen by number, or by a filter; how: see `style_of`; into a folder, or ""
    for a ZIP file."""

    kind: ClassVar[str] = "sounds"
    chosen: list[int]
    filter: dict[str, Any]
    how: dict[str, Any]
    folder: str


@work("long")
def take_sounds_out(job: Job, order: SoundsOut, progress: Progress) -> TakenOut:
    """Write what the job's order chooses; the same order again goes on where a cut was."""
    game, how = job.game, order.how
    assert game is not None
    rows = streams_chosen(game, order.chosen, Filter(**order.filter))
    items, notes = items_of(rows, how, progress=progress)
    by_key = _Rows(items)
    scratch = None
    if order.folder:
        out = export_folder(order.folder)
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
    if scratch is None:
        return TakenOut.of(report, notes, str(out))
    return TakenOut.of(report, notes, download=_one_file(out, scratch, progress))


def _one_file(folder: Path, beside: Path, progress: Progress) -> str:
    """All files of a folder in one ZIP file, as they are, or the only sound by itself; the folder is removed. Gives the file's
    name, "" where nothing came out."""
    files = sorted(p for p in folder.rglob("*") if p.is_file())
    sounds = [p for p in files if p.name != MANIFEST]
    place = beside / (sounds[0].name if len(sounds) == 1 else ZIP_NAME)
    try:
        if len(sounds) < 2:
            return sounds[0].replace(place).name if sounds else ""
        with whole(place) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as pack:
            for n, file in enumerate(files):
                progress(n, len(files), "putting them into one ZIP file")
                pack.write(file, file.relative_to(folder).as_posix())
    except OSError as e:
        raise ZubretError(
            f"The file can't be written: {e.strerror}.", file=place.name, next="Free some space, then start again."
        ) from e
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return place.name
