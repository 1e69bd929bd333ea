"""Mods that others made, as they come: a ZIP, a folder, an archive of the game's own kind. What they change becomes a mod."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path, PurePosixPath
from typing import ClassVar

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from zubret_core.base import Progress, ZubretError, in_words, told_to
from zubret_core.container import ZipArchive
from zubret_core.extract.names import safe_path
from zubret_core.locate import Locator
from zubret_core.locate.foreign import Brought, Foreign, Given, OtherEntry, OtherSound, OtherStream
from zubret_core.locate.spot import IN
from zubret_core.package import MANIFEST
from zubret_core.source import FileSource, Later, Source, write_file
from zubret_core.source.sums import sum_of
from zubret_core.swap import FILE, STORED, Treatment

from ..errors import stopped
from ..games.folders import original_folder
from ..games.models import Game, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.known import known_for
from ..layouts.rules import order_of
from ..shelf.models import Entry, pack_locator, seen_by, streams_of, unpack_locator
from ..shelf.opening import disk_cache
from .models import EntryFile, Mod, Swap
from .preparing import prepared_now
from .together import new_mod
from .uploads import mod_folder

LOOSE = "file"
"""The kind of a file that is a sound or a bank by itself."""
SHOWN = 200
"""Lines of a report that are told."""
MOST = 50_000
"""Files that are taken in at once."""


# Kept ---------------------------------------------------------------------------------------------


def kept(upload: UploadedFile, path: str, token: str = "") -> str:
    """Keep a file until all are looked into, for some hours at least; the name to ask for them by. path: what it is called, from a
    common folder on; token: of those that it belongs to, none for the first."""
    folder = _folder(token) if token else settings.DATA_DIR / "tmp" / f"{os.urandom(16).hex()}.brought"
    place = folder / safe_path(path or upload.name or "file").path
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        with place.open("wb") as out:
            for piece in upload.chunks():
                out.write(piece)
    except OSError as e:
        place.unlink(missing_ok=True)
        raise stopped(507, f"The file can't be kept: {e.strerror}.", "Free some space on the disk.", path) from e
    return folder.name.partition(".")[0]


def size_of(token: str) -> tuple[int, int]:
    """How many files were kept, and their bytes."""
    sizes = [p.stat().st_size for p in _folder(token).rglob("*") if p.is_file()]
    return len(sizes), sum(sizes)


def is_package(token: str) -> bool:
    """Whether what was kept is one of our packages."""
    places = [p for p in _folder(token).rglob("*") if p.is_file()]
    if len(places) != 1 or places[0].suffix.lower() != ".zip":
        return False
    try:
        with FileSource(places[0]) as source:
            return any(entry.path == MANIFEST for entry in ZipArchive(source).entries)
    except ZubretError:
        return False


def as_package(token: str) -> str:
    """The same, kept as a package is."""
    (place,) = (p for p in _folder(token).rglob("*") if p.is_file())
    os.replace(place, settings.DATA_DIR / "tmp" / f"{token}.package")
    shutil.rmtree(_folder(token), ignore_errors=True)
    return token


def _folder(token: str) -> Path:
    folder = settings.DATA_DIR / "tmp" / f"{token}.brought"
    if not re.fullmatch(r"[0-9a-f]{32}", token) or not folder.is_dir():
        raise stopped(410, "The files are not there any more.", "Choose them again.")
    return folder


@contextmanager
def _given(folder: Path, is_the_game_s: Callable[[str], bool]) -> Iterator[list[Given]]:
    """All files of a folder; a ZIP that is no archive of the game's own is taken for the folder that was packed into it."""
    opened: list[FileSource] = []

    def open_file(place: Path, name: str) -> Source:
        opened.append(FileSource(place, name))
        return opened[-1]

    out: list[Given] = []
    for place in sorted(p for p in folder.rglob("*") if p.is_file()):
        path = place.relative_to(folder).as_posix()
        if place.suffix.lower() == ".zip" and not is_the_game_s(path):
            archive = ZipArchive(open_file(place, path))
            if sum(archive.sizes()) > shutil.disk_usage(folder).free:
                raise ZubretError(
                    "The disk has no room for what is in this ZIP file.", file=path, next="Free some space on the disk."
                )
            around = path[: -len(place.name)]
            out += [
                Given(around + e.path, partial(Later, e.path, e.size, partial(archive.open, n)))
                for n, e in enumerate(archive.entries)
            ]
        else:
            later = partial(Later, path, place.stat().st_size, partial(FileSource, place, path))
            out.append(Given(path, later))
        if len(out) > MOST:
            raise ZubretError(f"There are more than {MOST:,} files.", file=path, next="Bring in a part of them.")
    try:
        yield out
    finally:
        for source in opened:
            source.close()


# Looked into --------------------------------------------------------------------------------------


@dataclass(frozen=True)
class BringOrder(Order):
    """Make a mod of files that were kept."""

    kind: ClassVar[str] = "bring mod"
    token: str
    name: str


@dataclass(frozen=True)
class BroughtIn:
    """The new mod (0 where nothing was found), and what was found: how many streams and whole entries are others; how many sounds are
    called by a stream's id, and are to be fitted; how many files are
    as the game has them; those that stand nowhere in it, with the reason, of `strange` the first ones."""

    mod: int
    streams: int
    files: int
    sounds: int
    same: int
    strange: int
    unknown: list[tuple[str, str]] = field(default_factory=list)


def start_bringing(game: Game, token: str, name: str) -> Job:
    """As a job."""
    _folder(token)
    if game.current_survey() is None:
        raise stopped(409, "This game was not surveyed yet.", "Survey it first.")
    return start(BringOrder(token, name), f"Bringing in {name}", game, Job.OPEN, ("token",))


@work("long")
def bring(job: Job, order: BringOrder, progress: Progress) -> BroughtIn:
    """Find out what the files change, and make a mod of that; or nothing at all."""
    game = job.game
    assert game is not None
    folder = _folder(order.token)
    rules = order_of(game)
    seen = SurveyFile.objects.filter(survey=game.current_survey(), inside=False, archive__isnull=False)
    whole = seen.filter(archive__error__isnull=True).values_list("path", "archive__kind")
    held = sorted(path for path, kind in whole if kind != LOOSE)
    loose = [path for path, kind in whole if kind == LOOSE]
    if rules is not None:
        rank = {m.path: m.rank for m in rules.mounts}
        held.sort(key=lambda path: rank.get(path, -1))

    def known_archive(path: str) -> bool:
        name = path.rpartition("/")[2].casefold()
        return any(name == own.rpartition("/")[2].casefold() for own in held) or (
            rules is not None and any(rules.would_be("/".join(PurePosixPath(path).parts[n:])) for n in range(9))
        )

    with _given(folder, known_archive) as given, told_to(lambda n, of, note: progress(0, 0, in_words(n, of, note))):
        looks = Foreign(
            original_folder(game), known_for(game), held, rules, disk_cache(), loose,
            partial(_by_id, game), partial(_by_content, game),
        )  # fmt: skip
        found = looks.look(given, lambda n, of, note: progress(n, 2 * of, note))
        mod = _made(job, game, order.name, found, progress) if found.streams or found.entries or found.sounds else None
    shutil.rmtree(folder, ignore_errors=True)
    return BroughtIn(
        mod.pk if mod else 0, len(found.streams), len(found.entries), len(found.sounds), len(found.same), len(found.unknown),
        found.unknown[:SHOWN],
    )  # fmt: skip


def _made(job: Job, game: Game, name: str, found: Brought, progress: Progress) -> Mod:
    """A mod of what was found. Nothing of it stays where something goes wrong."""
    scratch = settings.DATA_DIR / "exports" / str(job.pk)
    Job.objects.filter(pk=job.pk).update(scratch=str(scratch))
    scratch.mkdir(parents=True, exist_ok=True)
    everything: list[OtherStream | OtherEntry | OtherSound] = [*found.streams, *found.entries, *found.sounds]
    places = []
    for n, one in enumerate(everything):
        progress(len(everything) + n, 2 * len(everything), f"keeping {one.by}")
        places.append(_written(scratch, one.stream.payload if isinstance(one, OtherStream) else one.content, one.by))
    mod = None
    try:
        with transaction.atomic():
            mod = new_mod(game, name)
            sources = mod_folder(mod) / "sources"
            sources.mkdir(parents=True, exist_ok=True)
            for one, place in zip(everything, places, strict=True):
                if place.exists():  # else the same bytes came before
                    os.replace(place, sources / place.name)
                row = _file(one, place.stem) if isinstance(one, OtherEntry) else _swap(one)
                row.mod, row.source_path, row.source_name = mod, str(sources / place.name), one.by[-300:]
                row.save()
        for swap in mod.live_swaps().select_related("mod__game"):
            progress(0, 0, f"measuring {swap.source_name}")
            _prepare(swap, progress)
    except BaseException:
        if mod is not None:
            Mod.objects.filter(pk=mod.pk).delete()
            shutil.rmtree(mod_folder(mod), ignore_errors=True)
        raise
    return mod


def _prepare(swap: Swap, progress: Progress) -> None:
    try:
        prepared_now(swap, lambda n, of, note: progress(0, 0, in_words(n, of, note)))
    except ZubretError as e:
        Swap.objects.filter(pk=swap.pk).update(state=Swap.FAILED, error=e.as_dict(), prepared=None)


def _written(folder: Path, content: Source, name: str) -> Path:
    value = hashlib.blake2b(digest_size=16)
    for piece in content.chunks():
        value.update(piece)
    place = folder / (value.hexdigest() + PurePosixPath(name).suffix.lower()[:8])
    if not place.exists():
        write_file(content, place)
    return place


def _swap(one: OtherStream | OtherSound) -> Swap:
    where, stored = one.where, isinstance(one, OtherStream)
    return Swap(
        locator=pack_locator(where.archive, where.entries, where.stream_id, where.ordinal),
        source=STORED if stored else FILE,
        source_format=one.stream.format.as_dict() if isinstance(one, OtherStream) else None,
        treatment=Treatment().as_dict(),
        state=Swap.READING,
    )


def _by_id(game: Game, id: str) -> Locator | None:
    """The one stream of a game's newest survey that has an id; None where none has it, or several."""
    found = list(streams_of(game).filter(stream_id=id).values_list("locator", flat=True)[:2]) if id else []
    return unpack_locator(found[0]) if len(found) == 1 else None


def _by_content(game: Game, content: Source) -> bool:
    """Whether an entry of a game's newest survey has these bytes, as far as its contents are known (xxh3-64)."""
    entries = Entry.objects.filter(seen_by(game.current_survey()), size=content.size, digest__isnull=False)
    if not content.size or not entries.exists():
        return False
    value = int(sum_of("xxh3-64", content))
    return entries.filter(digest=value - (1 << 64) if value >> 63 else value).exists()


def _file(one: OtherEntry, digest: str) -> EntryFile:
    inside = [[path, n] for path, n in one.inside]
    shown = IN.join([one.archive, *(path for path, _ in one.inside)])
    return EntryFile(
        archive=one.archive,
        inside=inside,
        path=one.path,
        index=one.index,
        label=one.path,
        shown_in=shown,
        digest=digest,
    )
