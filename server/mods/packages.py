"""Packages: a mod as one file, made and taken in. The core knows the form (`zubret_core.package`)."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import Any, ClassVar

import numpy as np
from django.conf import settings
from django.core.files import File
from django.db import transaction
from pydantic import ValidationError

from zubret_core.audio.files import PIECE, file_format
from zubret_core.base import Format, Progress, ZubretError, to_int16
from zubret_core.base.format import frozen
from zubret_core.codec import CODECS
from zubret_core.extract.names import safe_path
from zubret_core.locate import Locator
from zubret_core.locate.spot import IN
from zubret_core.package import Entry, Game, Manifest, New, Original, Package, Stream, member_of, pack
from zubret_core.package import Swap as PackedSwap
from zubret_core.source import PART, FileSource
from zubret_core.source.sums import sum_of
from zubret_core.swap import FILE, STORED, STREAM, Treatment

from ..bulk import among
from ..errors import stopped
from ..games import models as games
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..shelf.models import Entry as GameEntry
from ..shelf.models import pack_locator, seen_by, streams_of, unpack_locator
from ..shelf.sound import open_original
from . import pictures
from .carrying import JudgeOrder, judge_mod
from .models import EntryFile, Mod, Swap
from .services import source_of, with_places
from .together import new_mod
from .uploads import mod_folder

ALIKE = 200
"""Streams of the same length at most with which a file is compared before it is packed."""
FORMAT = ("codec", "rate", "channels", "frames", "loop", "block_size", "variant", "parameters")
"""What a manifest says of an original's format."""


# Made ---------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class PackOrder(Order):
    """Pack a mod, by its number."""

    kind: ClassVar[str] = "pack mod"
    mod: int


@dataclass(frozen=True)
class Packed:
    """The file's name; how many swaps and files are in it, and its bytes."""

    download: str
    swaps: int
    files: int
    bytes: int


def start_packing(mod: Mod) -> Job:
    """As a job; its file is fetched like what is taken out."""
    return start(PackOrder(mod.pk), f"Packing {mod.name}", mod.game, Job.OPEN, ("mod",))


@work("long")
def pack_mod(job: Job, order: PackOrder, progress: Progress) -> Packed:
    """Write the package below the job's own folder."""
    mod = Mod.objects.select_related("game").get(pk=order.mod)
    places: dict[str, Path] = {}
    swaps, files = list(mod.live_swaps()), list(mod.live_files())
    shown = pictures.place_of(mod)
    given = [s for s in swaps if s.source in (FILE, STORED)]
    _must_be_no_entries(mod, [*given, *files])
    for n, swap in enumerate(given):
        progress(n, len(given), f"looking at {swap.source_name}")
        _must_be_new(mod, swap)
    try:
        manifest = Manifest(
            **{name: getattr(mod, name) for name in ("name", "version", "author", "licence", "note")},
            picture=_new(str(shown), f"picture{shown.suffix}", places) if shown else None,
            game=Game(name=mod.game.name, builds=[mod.game.build] if mod.game.build else []),
            swaps=[_packed(swap, places) for swap in swaps],
            files=[_packed_file(file, places) for file in files],
        )
    except ValidationError as e:  # a path that is no text, or is longer than the form allows
        raise ZubretError(
            f"Something in the mod can't be packed: {e.errors()[0]['msg']}.",
            file=str(e.errors()[0]["input"])[:200],
            next="Remove the swap or the file with this name from the mod.",
        ) from e
    if not manifest.swaps and not manifest.files:
        raise ZubretError("The mod is empty.", file=mod.name, next="Swap a stream first.")
    scratch = settings.DATA_DIR / "exports" / str(job.pk)
    Job.objects.filter(pk=job.pk).update(scratch=str(scratch))
    scratch.mkdir(parents=True, exist_ok=True)
    name = safe_path(f"{mod.name} {mod.version}".strip().replace("/", "_")).path + ".zip"
    pack(manifest, places, scratch / name, progress)
    return Packed(name, len(manifest.swaps), len(manifest.files), (scratch / name).stat().st_size)


def _packed(swap: Swap, places: dict[str, Path]) -> PackedSwap:
    own = swap.original
    format = _as_manifest(own["format"]) if own else {}
    return PackedSwap(
        stream=_stream(unpack_locator(swap.locator)),
        original=Original(digest=swap.payload_digest, bytes=own["stored"], format=format) if own else None,
        begins=swap.source,
        file=_new(swap.source_path, swap.source_name, places) if swap.source in (FILE, STORED) else None,
        format=_as_manifest(swap.source_format) if swap.source_format else None,
        other=_stream(unpack_locator(swap.source_locator)) if swap.source == STREAM else None,
        treatment={k: v for k, v in swap.treatment.items() if v != Treatment().as_dict().get(k)},
    )


def _as_manifest(format: dict[str, Any]) -> dict[str, object]:
    return {name: format.get(name) for name in FORMAT}


def _packed_file(file: EntryFile, places: dict[str, Path]) -> Entry:
    new = _new(file.source_path, file.source_name, places)
    inside = [path for path, _ in file.inside]
    return Entry(archive=file.archive, inside=inside, path=file.label, adds=file.index is None, file=new)


def _stream(where: Locator) -> Stream:
    paths = [path for path, _ in where.entries]
    return Stream(archive=where.archive, entries=paths, id=where.stream_id, number=where.ordinal)


def _new(place: str, name: str, places: dict[str, Path]) -> New:
    with open(place, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    member = member_of(digest, name)
    places[member] = Path(place)
    return New(member=member, name=name, sha256=digest)


def _must_be_no_entries(mod: Mod, given: list[Swap | EntryFile]) -> None:
    """ZubretError where a file is an entry of the game, byte by byte (xxh3-64, as surveys know them)."""
    sizes = {row: Path(row.source_path).stat().st_size for row in given}
    entries = GameEntry.objects.filter(seen_by(mod.game.current_survey()), digest__isnull=False)
    known = set(entries.filter(size__in=among(set(sizes.values()))).values_list("size", "digest"))
    alike = {size for size, _ in known}
    for row, size in sizes.items():
        if not size or size not in alike:
            continue
        with FileSource(row.source_path, row.source_name) as source:
            value = int(sum_of("xxh3-64", source))
        if (size, value - (1 << 64) if value >> 63 else value) in known:
            raise ZubretError(
                f"{row.source_name} is the game's own, byte by byte.",
                file=row.source_name,
                next="Take it out of the mod, or begin the swap with another stream: then only how it is made is packed.",
            )


def _must_be_new(mod: Mod, swap: Swap) -> None:
    """ZubretError where a swap's file is a sound of the game, sample by sample: that may not be given away."""
    with closing(source_of(swap)) as source:
        format = file_format(source)
        if format is None:
            return
        rows = streams_of(mod.game).filter(frames=format.frames, channels=format.channels)
        for row in with_places(rows)[:ALIKE]:
            original = open_original(row)
            ours = _pieces(lambda at, n: to_int16(CODECS["file"].decode(source, format, at, n)), format.frames)
            theirs = _pieces(original.decode, format.frames)
            if format.frames and all(np.array_equal(a, b) for a, b in zip(ours, theirs, strict=True)):
                raise ZubretError(
                    f"{swap.source_name} is the game's own sound: that of {row.where()}.",
                    file=str(unpack_locator(swap.locator)),
                    next="Begin that swap with another stream or with the original: then only how it is made is packed.",
                )


def _pieces(decode: Any, frames: int) -> Iterator[np.ndarray]:
    return (decode(at, min(PIECE, frames - at)) for at in range(0, frames, PIECE))


# Taken in -----------------------------------------------------------------------------------------


def kept(upload: File) -> str:
    """Keep a package until it is taken in, for some hours at least; the name to ask for it by."""
    folder = settings.DATA_DIR / "tmp"
    folder.mkdir(parents=True, exist_ok=True)
    value = hashlib.blake2b(digest_size=16)
    part = folder / f"{os.urandom(8).hex()}{PART}"
    try:
        with part.open("wb") as out:
            for piece in upload.chunks():
                value.update(piece)
                out.write(piece)
        os.replace(part, folder / f"{value.hexdigest()}.package")
    finally:
        part.unlink(missing_ok=True)
    return value.hexdigest()


def opened(token: str) -> Package:
    """A package that was kept."""
    place = settings.DATA_DIR / "tmp" / f"{token}.package"
    if not place.is_file():
        raise stopped(410, "The package is not there any more.", "Choose it again.")
    return Package(place)


@dataclass(frozen=True)
class UnpackOrder(Order):
    """Take a kept package in as a mod of the job's game."""

    kind: ClassVar[str] = "take in mod"
    token: str


@dataclass(frozen=True)
class TakenIn:
    """The new mod's number."""

    mod: int


def start_taking_in(game: games.Game, token: str) -> Job:
    """As a job; what the package says is checked before."""
    with opened(token) as package:
        name = package.manifest.name
    return start(UnpackOrder(token), f"Taking in {name}", game, Job.OPEN, ("token",))


@work("long")
def unpack_mod(job: Job, order: UnpackOrder, progress: Progress) -> TakenIn:
    """Make the mod, with all its files, and judge it; or nothing at all."""
    game = job.game
    assert game is not None
    with opened(order.token) as package:
        room = shutil.disk_usage(settings.DATA_DIR).free
        if package.size > room:
            raise ZubretError("The disk has no room for what is in the package.", next="Free some space on the disk.")
        manifest = package.manifest
        rows = _rows(manifest)
        scratch = settings.DATA_DIR / "exports" / str(job.pk)
        Job.objects.filter(pk=job.pk).update(scratch=str(scratch))
        scratch.mkdir(parents=True, exist_ok=True)
        files = _unpacked(package, scratch, progress)
        shown = files[manifest.picture.member].read_bytes() if manifest.picture else b""
        mod = None
        try:
            with transaction.atomic():
                mod = new_mod(game, manifest.name)
                own = {name: getattr(manifest, name) for name in ("version", "author", "licence", "note")}
                Mod.objects.filter(pk=mod.pk).update(**own)
                folder = mod_folder(mod) / "sources"
                folder.mkdir(parents=True, exist_ok=True)
                for place in files.values():
                    os.replace(place, folder / place.name)
                for row, new in rows:
                    row.mod = mod
                    if new:
                        row.source_path, row.source_name = str(folder / files[new.member].name), new.name
                    if isinstance(row, EntryFile):
                        row.digest = files[new.member].stem if new else ""
                    row.save()
                if shown:
                    pictures.put(mod, shown)
        except BaseException:
            if mod is not None:
                shutil.rmtree(mod_folder(mod), ignore_errors=True)
            raise
    if game.current_survey() is not None:
        judge_mod(job, JudgeOrder(mod.pk), progress)
    return TakenIn(mod.pk)


def _unpacked(package: Package, folder: Path, progress: Progress) -> dict[str, Path]:
    """The files of a package, each under its digest, by its member."""
    files, done = {}, 0
    for new in package.manifest.new():
        value = hashlib.blake2b(digest_size=16)
        part = folder / "part"
        with part.open("wb") as out:

            def keep(piece: bytes, out: Any = out, value: Any = value) -> None:
                out.write(piece)
                value.update(piece)

            package.unpack(new, keep)
        place = folder / (value.hexdigest() + PurePath(new.name).suffix.lower()[:8])
        done += part.stat().st_size
        os.replace(part, place)
        files[new.member] = place
        progress(done, max(package.size, 1), f"unpacking {new.name}")
    return files


def _rows(manifest: Manifest) -> list[tuple[Swap | EntryFile, New | None]]:
    """The rows of a manifest, without their mod and their files; a ZubretError where something in it can't be meant."""
    rows: list[tuple[Swap | EntryFile, New | None]] = []
    for packed in manifest.swaps:
        how = Treatment.from_dict({**Treatment().as_dict(), **packed.treatment})
        swap = Swap(
            locator=_locator(packed.stream),
            source=packed.begins,
            source_name={"original": "the original", "silence": "silence"}.get(packed.begins, ""),
            treatment=how.as_dict(),
            state=Swap.HELD,
        )
        if packed.other:
            swap.source_locator = _locator(packed.other)
            swap.source_name = str(unpack_locator(swap.source_locator))[-300:]
        if packed.original:
            swap.payload_digest = packed.original.digest
            swap.original = {"format": _format(packed.original.format), "stored": packed.original.bytes}
        if packed.begins == STORED:
            swap.source_format = _format(packed.format or {})
        rows.append((swap, packed.file))
    for entry in manifest.files:
        inside = [[path, 0] for path in entry.inside]
        shown = IN.join([entry.archive, *entry.inside])
        where = {"archive": entry.archive, "inside": inside, "path": entry.path, "label": entry.path}
        rows.append((EntryFile(**where, shown_in=shown, index=None if entry.adds else 0), entry.file))
    return rows


def _locator(stream: Stream) -> str:
    return pack_locator(stream.archive, [(path, 0) for path in stream.entries], stream.id, stream.number)


def _format(given: Mapping[str, object]) -> dict[str, Any]:
    try:
        known: dict[str, Any] = {name: given[name] for name in FORMAT}
        frozen(known["parameters"])
        return Format.from_dict(known).checked().as_dict()
    except (KeyError, TypeError, ValueError, AttributeError) as e:
        raise ZubretError(
            "The package says of a stream what no format can be.", next="Ask whoever made it for another copy."
        ) from e
