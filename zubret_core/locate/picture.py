"""A picture of a game: all its bytes to scale, told apart by what they are, and where its sound is in one sentence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from ..base.wording import spaced
from .spot import IN

SOUND, HOLDS, ARCHIVE, LOCKED, OTHER = "sound", "holds", "archive", "locked", "other"
KINDS = (HOLDS, SOUND, ARCHIVE, LOCKED, OTHER)
"""What bytes can be: of an archive with sound in it, of a sound that is a file by itself, of an archive without sound, of a locked
archive, or of anything else."""
MOST = 60
"""Parts that a picture tells apart."""
SPLIT, FEW = 0.25, 40
"""A folder is shown by what is in it where it has this share of all bytes, as long as there are no more parts than that."""
NAMED = 3
"""Places of the sound that the sentence names at most."""


class Seen(NamedTuple):
    """A file as a survey saw it, or an archive inside one: what it is in the survey's words, bytes, streams, and the archive
    that it is a volume of."""

    path: str
    size: int
    what: str
    streams: int
    belongs_to: str
    inside: bool


@dataclass
class Part:
    """A file, or a folder with all that is below it: bytes of each kind."""

    path: str
    name: str
    folder: bool
    files: int = 0
    size: int = 0
    streams: int = 0
    kinds: dict[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Picture:
    """The largest parts of a folder first, with how many smaller ones there are, and their bytes; the bytes and the files of
    each kind in the whole folder."""

    size: int
    parts: list[Part]
    smaller: int
    smaller_bytes: int
    kinds: dict[str, tuple[int, int]]


def kinds_of(files: Sequence[Seen]) -> dict[str, str]:
    """The kind of each file by its path; a volume is what the archive is that it belongs to."""
    holds = {file.path.partition(IN)[0] if file.inside else file.path for file in files if file.streams}
    kinds = {file.path: _kind(file, file.path in holds) for file in files if not file.inside}
    for file in files:
        if file.belongs_to in kinds and not file.inside:
            kinds[file.path] = kinds[file.belongs_to]
    return kinds


def _kind(file: Seen, holds: bool) -> str:
    if file.what == "archive":
        return HOLDS if holds else ARCHIVE
    return file.what if file.what in (SOUND, LOCKED) else OTHER


def picture(files: Sequence[Seen], within: str = "") -> Picture:
    """What lies in a folder ("" is the game's own), to scale. A folder in it that is most of it is shown by what is in it."""
    start = within + "/" if within else ""
    inside = [file for file in files if file.path.startswith(start)]
    kinds_of_files = kinds_of(files)
    parts = _parts(inside, start, kinds_of_files)
    size = sum(part.size for part in parts)
    while (most := max(parts, key=lambda part: part.size * part.folder, default=None)) and most.folder:
        deeper = [file for file in inside if file.path.startswith(most.path + "/")]
        opened = _parts(deeper, most.path + "/", kinds_of_files)
        if most.size < size * SPLIT or len(parts) + len(opened) > FEW:
            break
        parts = [*(part for part in parts if part is not most), *opened]
    kinds: dict[str, tuple[int, int]] = {}
    for file in inside:
        if not file.inside:
            before = kinds.get(kinds_of_files[file.path], (0, 0))
            kinds[kinds_of_files[file.path]] = before[0] + file.size, before[1] + 1
    largest = sorted(parts, key=lambda part: (-part.size, part.path))
    rest = largest[MOST:]
    for part in largest:
        part.name = part.path.removeprefix(start)
    return Picture(size, largest[:MOST], len(rest), sum(part.size for part in rest), kinds)


def _parts(files: Sequence[Seen], start: str, kinds: dict[str, str]) -> list[Part]:
    """What stands in the folder with which a path begins; files are in the order of their paths."""
    parts: dict[str, Part] = {}
    for file in files:
        name, slash, _ = file.path[len(start) :].partition("/")
        if file.inside:  # its bytes are those of the file around it
            around = parts.get(start + name) or parts.get(start + name.partition(IN)[0])
            if around:
                around.streams += file.streams
            continue
        part = parts.setdefault(start + name, Part(start + name, name, bool(slash)))
        part.files += 1
        part.size += file.size
        part.streams += file.streams
        part.kinds[kinds[file.path]] = part.kinds.get(kinds[file.path], 0) + file.size
    return list(parts.values())


def where_sound_is(files: Sequence[Seen]) -> str:
    """In one sentence or two: where the sound of a game is, and what to do next."""
    locked = sum(file.what == "locked" for file in files)
    shut = (
        f"{'1 archive is' if locked == 1 else f'{spaced(locked)} archives are'} locked: give the key under Keys."
        if locked
        else ""
    )
    places: dict[str, int] = {}
    for file in files:
        if file.streams:
            place = file.path.partition(IN)[0] if file.inside else file.path
            if file.what == SOUND and not file.inside:
                place = file.path.rpartition("/")[0] or "the game's own folder"
            places[place] = places.get(place, 0) + file.streams
    total = sum(places.values())
    if not total:
        nothing = "No sound was recognised. Describe a file on the layout bench, or listen to its bytes."
        return f"No sound is open yet. {shut}" if shut else nothing if files else "The folder is empty."
    best = sorted(places.items(), key=lambda place: (-place[1], place[0]))[:NAMED]
    said, covered = [], 0
    for place, streams in best:
        said.append(place)
        covered += streams
        if covered >= 0.95 * total:
            break
    names = said[0] if len(said) == 1 else f"{', '.join(said[:-1])} and {said[-1]}"
    stand = "are" if covered > 1 else "is"
    share = (
        f"{'The stream' if total == 1 else f'All {spaced(total)} streams'} {stand}"
        if covered == total
        else f"{spaced(covered)} of the {spaced(total)} streams {stand}"
    )
    return " ".join(x for x in (f"{share} in {names}.", shut) if x)
