"""Where a stream is: the chain of archive, entries and stream that survives a new survey."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ..bank import Bank, Stream
from ..base import ZubretError
from ..container import Container, GameFolder, Siblings, beside
from ..container.base import index_of, open_entry
from ..source import DiskCache, Source
from .known import Known
from .recognise import open_archive, open_bank

Step = tuple[str, int]
"""Path and number of an entry."""


@dataclass(frozen=True)
class Locator:
    """Archive path below the game's folder; path and number of each entry on the way in; stream id and ordinal."""

    archive: str
    entries: tuple[Step, ...]
    stream_id: str
    ordinal: int

    @property
    def entry(self) -> str:
        """The path of the bank inside its archive."""
        return self.entries[-1][0]

    def __str__(self) -> str:
        parts = [self.archive, *(path for path, _ in self.entries), self.stream_id]
        if self.entry == self.archive.rsplit("/", 1)[-1]:
            parts.pop(len(self.entries))
        return " › ".join(p for p in parts if p)


def open_file(
    game: GameFolder, path: str, known: Known, cache: DiskCache | None = None, key: str = ""
) -> Container | None:
    """A file of a game as an archive, with what stands beside it."""
    return open_archive(game.open(path), known, game.beside(path), cache, key)


def open_bank_at(
    game: GameFolder, locator: Locator, cache: DiskCache | None = None, key: str = "", known: Known | None = None
) -> Bank:
    """The bank of a locator; ZubretError where the game no longer has it there.

    `key` names the version of the archive, for the cache of unpacked entries.
    """
    known = known or Known()

    def finder(step: Step) -> Callable[[Container], int]:
        def find(archive: Container) -> int:
            check_step(archive, step, str(locator))
            return step[1]

        return find

    archive = open_file(game, locator.archive, known, cache, key)
    content, around = _descend(archive, [finder(s) for s in locator.entries], str(locator), known, cache, key)
    bank = open_bank(content, known, around)
    if bank is None:
        raise _gone(str(locator), "The entry is no longer a bank.")
    return bank


def open_place(
    game: GameFolder, path: str, known: Known, cache: DiskCache | None = None, key: str = ""
) -> tuple[Source, Siblings]:
    """The bytes at a path such as `data/sea.crate › music/a.bell`, whatever they are, and what stands beside them."""
    file, *entries = path.split(" › ")
    if not entries:
        return game.open(file), game.beside(file)

    def finder(name: str) -> Callable[[Container], int]:
        def find(archive: Container) -> int:
            index = index_of(archive, name)
            if index is None:
                raise ZubretError(
                    f"{archive.source.name} has no entry {name}.", file=path, next="Survey the game again."
                )
            return index

        return find

    archive = open_file(game, file, known, cache, key)
    return _descend(archive, [finder(name) for name in entries], path, known, cache, key)


def _descend(
    archive: Container | None,
    steps: Sequence[Callable[[Container], int]],
    where: str,
    known: Known,
    cache: DiskCache | None,
    key: str,
) -> tuple[Source, Siblings]:
    """The entry that is reached by steps, each of which says the number of an entry in the archive before."""
    for depth, step in enumerate(steps):
        if archive is None:
            raise _gone(where, "The file is no longer an archive.")
        index = step(archive)
        key = f"{key}/{index}"
        content = open_entry(archive, index, cache, key)
        around: Siblings = beside(archive, index)
        if depth < len(steps) - 1:
            content.name = f"{archive.source.name} › {content.name}"
            archive = open_archive(content, known, around, cache, key)
    return content, around


def check_step(archive: Container, step: Step, where: str) -> None:
    """ZubretError unless the entry is where a survey found it; `where` says it in the message."""
    path, index = step
    if index >= len(archive.entries) or archive.entries[index].path != path:
        raise _gone(where, "The entry is no longer where the survey found it.")


def stream_in(bank: Bank, locator: Locator) -> Stream:
    """The stream of a locator in its opened bank; ZubretError where it is no longer there."""
    if locator.ordinal >= len(bank.streams) or bank.streams[locator.ordinal].id != locator.stream_id:
        raise _gone(str(locator), "The stream is no longer where the survey found it.")
    return bank.streams[locator.ordinal]


def open_stream(
    game: GameFolder, locator: Locator, cache: DiskCache | None = None, key: str = "", known: Known | None = None
) -> Stream:
    """The stream at a locator: `open_bank_at` and `stream_in` in one."""
    return stream_in(open_bank_at(game, locator, cache, key, known), locator)


def _gone(where: str, what: str) -> ZubretError:
    return ZubretError(what, file=where, next="The game has changed: survey it again, then look it up anew.")
