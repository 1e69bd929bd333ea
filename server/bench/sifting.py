"""What is in here? Sounds in files that nothing describes: looked for as a job, listed while it goes on, heard, and taken out."""

from __future__ import annotations

import json
import time
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from django.conf import settings
from django.db import transaction
from django.db.models import Sum

from zubret_core.base import Progress, ZubretError
from zubret_core.codec import codec_of
from zubret_core.extract import safe_path
from zubret_core.extract.write import need_room
from zubret_core.layout import Layout, load_layout
from zubret_core.locate.draft_texts import draft
from zubret_core.locate.drafts import drafts
from zubret_core.locate.spot import IN
from zubret_core.locate.tables import HEAD, find_table
from zubret_core.locate.unknown import Candidate
from zubret_core.sift import Hit, sounds_in
from zubret_core.source import Source
from zubret_core.source.whole import whole

from ..bulk import insert
from ..errors import stopped
from ..games.models import Game, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.models import UserLayout
from ..shelf.sound import Sound, opens
from .models import Sifted, Sifting
from .services import create, open_bytes, save_version, title_of, version_at

MOST = 200_000
"""Sounds that one look gives at most."""
TOLD = 0.5
"""Seconds after which what was found meanwhile is written down, so that it can be listed and heard."""


@dataclass(frozen=True)
class SiftOrder(Order):
    """Look for sounds in a file or an entry of the job's game; path "": in all files that nothing describes."""

    kind: ClassVar[str] = "sift"
    path: str


@dataclass(frozen=True)
class SiftedFiles:
    """How many sounds were found in how many files; failed: files that could not be read, the first of them with what stopped it."""

    found: int
    files: int
    failed: int = 0
    problem: str = ""


def start_sifting(game: Game, path: str) -> Job:
    """Look anew; where it is being looked, that job is given."""
    if path:
        open_bytes(game, path).close()
    elif game.current_survey() is None:
        raise stopped(
            409, "This game was not surveyed yet.", "Survey it first: files that nothing describes are looked through."
        )
    title = f"Looking for sounds in {path or game.name}"
    with transaction.atomic():
        job = start(SiftOrder(path), title, game, Job.OPEN, ("path",))
        if not Sifting.objects.filter(job=job).exists():
            Sifting.objects.filter(game=game, path=path).delete()
            Sifting.objects.create(game=game, path=path, job=job)
    return job


def undescribed(game: Game) -> list[str]:
    """The paths of files of the newest survey that nothing describes or that could not be read."""
    rows = SurveyFile.objects.filter(survey=game.current_survey(), what__in=(SurveyFile.OTHER, SurveyFile.UNREADABLE))
    return list(rows.order_by("path").values_list("path", flat=True))


@work("long")
def sift(job: Job, order: SiftOrder, progress: Progress) -> SiftedFiles:
    """Every file, one after the other."""
    game = job.game
    assert game is not None
    sifting = Sifting.objects.get(job=job)
    paths = [order.path] if order.path else undescribed(game)
    found = failed = 0
    problem = ""
    for n, path in enumerate(paths):
        try:
            with open_bytes(game, path) as source:
                found += _sift_file(game, sifting, path, source, found, _scaled(progress, n, len(paths)))
                sifting.size += source.size
        except ZubretError as e:
            failed, problem = failed + 1, problem or f"{path}: {e.what}"
            if order.path:
                raise
        sifting.files = n + 1
        if n == len(paths) - 1 or n % 50 == 49:
            sifting.save(update_fields=["size", "files"])
        if found >= MOST:
            break
    return SiftedFiles(found, len(paths), failed, problem)


def _scaled(progress: Progress, n: int, files: int) -> Progress:
    """Progress of one of several files, as a thousandth of all."""
    if files == 1:
        return progress
    return lambda done, total, note: progress(n * 1000 + (1000 * done // total if total else 0), files * 1000, note)


def _sift_file(game: Game, sifting: Sifting, path: str, source: Source, before: int, progress: Progress) -> int:
    """The sounds in one file, into rows; how many there are."""
    version, rows, count, last = version_at(game, path), [], 0, time.monotonic()
    for hit in sounds_in(source, progress):
        rows.append(_row(sifting, path, version, hit))
        count += 1
        now = time.monotonic()
        if now - last > TOLD or len(rows) >= 2000 or count == 1:
            insert(Sifted, Sifted.FIELDS, rows)
            rows, last = [], now
        if before + count >= MOST:
            break
    insert(Sifted, Sifted.FIELDS, rows)
    return count


def _row(sifting: Sifting, path: str, version: str, hit: Hit) -> tuple:
    f = hit.format
    how = (f.codec, f.variant, f.rate, f.channels, f.frames) if f else ("", "", 0, 0, 0)
    return (sifting.pk, path, version, hit.at, hit.length, hit.title, hit.ending, hit.reason, *how, "{}")


# What was found ---------------------------------------------------------------------------------


def last_sifting(game: Game, path: str) -> Sifting | None:
    """The last look through a path."""
    return Sifting.objects.filter(game=game, path=path).select_related("job").first()


def sums_of(sifting: Sifting) -> dict[str, float]:
    """How many were found, their bytes, and how many seconds of them can be heard."""
    rows = sifting.found.all()
    heard = rows.filter(rate__gt=0).values_list("rate").annotate(frames=Sum("frames"))
    return {
        "total": rows.count(),
        "bytes": rows.aggregate(sum=Sum("length"))["sum"] or 0,
        "seconds": sum(frames / rate for rate, frames in heard.values_list("rate", "frames")),
    }


def source_of(row: Sifted) -> Source:
    """The bytes of a sound that was found; 409 where its file has changed since."""
    game = row.sifting.game
    if version_at(game, row.path) != row.version:
        raise stopped(409, "The file has changed since it was looked through.", "Look through it again.", row.path)
    return Hit(row.at, row.length, row.title, row.ending, row.reason, None).open(open_bytes(game, row.path))


def name_of(row: Sifted) -> str:
    """A file name for a sound that was found: its file, its place."""
    return f"{title_of(row.path)} {row.at}{row.ending}"


@opens("s")
def _found(pk: int, digest: str) -> Sound | None:
    row = Sifted.objects.select_related("sifting__game").filter(pk=pk).first()
    if row is None or row.digest != digest or row.format is None:
        return None
    payload, format = source_of(row), row.format
    return Sound(name_of(row), format, lambda at, frames: codec_of(format).decode(payload, format, at, frames), digest)


def drafted(game: Game, path: str) -> UserLayout:
    """A new layout for a file by a table that says where the sounds stand which were found in it."""
    sifting = last_sifting(game, path)
    rows = list(sifting.found.order_by("at").values_list("at", "length", "codec")[:4096]) if sifting else []
    if not rows:
        raise stopped(409, "Nothing has been found here.", "Look through the file first.", path)
    places, codecs = {at for at, _, _ in rows}, {codec for _, _, codec in rows}
    with open_bytes(game, path) as source:
        fitting = [d for d in drafts(title_of(path), source) if len(places & d.places) * 5 >= len(places) * 4]
        if not fitting:
            raise stopped(
                409,
                "No table that says where these sounds stand was found in the file.",
                "Describe it on the bench; the table may be packed, or stand in another file.",
                path,
            )
        if codecs <= {"mpeg", "adts"} and len(codecs) == 1 and (table := find_table(source)):
            reading = Candidate(codecs.pop(), 1, 0.0)
            text = draft(title_of(path), source.read(0, min(HEAD, source.size)), reading, 0, rows[0][0], table)
            return create("", text)
    made = create("", fitting[0].text)
    for codec in sorted(codecs & {"mpeg", "adts"}):
        save_version(create("", _frames_inside(load_layout(made.draft), codec)))
    return made


def _frames_inside(archive: Layout, codec: str) -> str:
    """A layout for those entries of a new archive that are frames without a head: it claims nothing else."""
    return (
        f"zubret: 1\nid: {archive.id[:50]}-{codec}\ntitle: {json.dumps(f'{archive.title}, {codec}')}\ndescribes: stream\n"
        f"inside: [{archive.id}]\nwhole: true\ncodecs: {{sound: {{codec: {codec}}}}}\ngiven: {{stream.codec: sound}}\n"
    )


# Taking out -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class SiftedOut(Order):
    """Put all that one look found into a ZIP file."""

    kind: ClassVar[str] = "sifted-out"
    sifting: int


@dataclass(frozen=True)
class Packed:
    """How many files and bytes were put in; download: the name of the file."""

    files: int
    bytes: int
    download: str


def start_taking_out(game: Game, path: str) -> Job:
    """All that was found at a path, as a ZIP file to be downloaded."""
    sifting = last_sifting(game, path)
    if sifting is None or not sifting.found.exists():
        raise stopped(409, "Nothing has been found here.", "Look through the file first.", path)
    return start(SiftedOut(sifting.pk), f"Taking out the sounds in {path or game.name}", game)


@work("long")
def take_out(job: Job, order: SiftedOut, progress: Progress) -> Packed:
    """The ZIP file is there whole or not at all."""
    sifting = Sifting.objects.select_related("game").get(pk=order.sifting)
    total, done, files = int(sums_of(sifting)["bytes"]), 0, 0
    scratch = settings.DATA_DIR / "exports" / str(job.pk)
    Job.objects.filter(pk=job.pk).update(scratch=str(scratch))
    scratch.mkdir(parents=True, exist_ok=True)
    place = scratch / "sounds found.zip"
    need_room(scratch, total)
    with whole(place) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as pack:
        for row in _in_order(sifting):
            folder = row.path.replace(IN, "/") + "/" if not sifting.path else ""
            name = safe_path(f"{folder}{name_of(row)}").path
            with (
                source_of(row) as source,
                pack.open(zipfile.ZipInfo(name), "w", force_zip64=source.size >= 1 << 31) as out,
            ):
                for piece in source.chunks():
                    out.write(piece)
                    done += len(piece)
                    progress(done, total, f"{files:,} sounds taken out")
            files += 1
    return Packed(files, done, place.name)


def _in_order(sifting: Sifting) -> Iterator[Sifted]:
    for row in sifting.found.order_by("pk").iterator():
        row.sifting = sifting
        yield row
