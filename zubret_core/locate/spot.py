"""The one way into a game: from a file down into its entries, however deep, to a bank and a stream.

A spot is bytes somewhere in a game, with what it needs to be read: its name, what stands beside it, layouts, keys and
names, and the key of its unpacked bytes in the cache. Listening, surveys, the bench, taking out, rebuilding and proving
all go this way.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field

from ..bank import Bank
from ..base import ZubretError, once
from ..container import Container, GameFolder, Siblings
from ..source import DiskCache, Source
from .known import Kind, Known
from .recognise import open_archive, open_bank

Step = tuple[str, int]
"""Path and number of an entry."""
IN = " › "
"""Stands between a file and an entry in it, where people read it."""


def split_place(game: GameFolder, path: str) -> tuple[str, list[str]]:
    """The file with which a path such as `data/sea.crate › music/a.bell` begins, and the names behind it. A file may hold the
    sign between them in its own name."""
    pieces = path.split(IN)
    for n in range(len(pieces), 1, -1):
        with suppress(ZubretError):
            if game.locate(IN.join(pieces[:n])).is_file():
                return IN.join(pieces[:n]), pieces[n:]
    return pieces[0], pieces[1:]


@dataclass(eq=False)
class Spot:
    """Bytes somewhere in a game. name: as people call it, such as `data/sea.crate › music/music.bell`; kind: what it is, where
    somebody has looked."""

    name: str
    source: Source
    siblings: Siblings | None
    known: Known = field(default_factory=Known)
    cache: DiskCache | None = None
    key: str = ""
    kind: Kind | None = None

    @classmethod
    def file(
        cls, game: GameFolder, path: str, known: Known | None = None, cache: DiskCache | None = None, key: str = ""
    ) -> Spot:
        """A file of a game. key: a text that names this version of it, for the cache of unpacked entries."""
        return cls(path, game.open(path), game.beside(path), known or Known(), cache, key or path)

    @classmethod
    def place(
        cls, game: GameFolder, path: str, known: Known | None = None, cache: DiskCache | None = None, key: str = ""
    ) -> Spot:
        """What stands at a path such as `data/sea.crate › music/a.bell`, by the names of the entries on the way."""
        file, names = split_place(game, path)
        spot = cls.file(game, file, known, cache, key)
        for name in names:
            index = spot.archive.index_of(name)
            if index is None:
                raise ZubretError(f"{spot.name} has no entry {name}.", file=path, next="Survey the game again.")
            spot = spot.entry(index)
        return spot

    @classmethod
    def around(cls, archive: Container, known: Known | None = None) -> Spot:
        """The spot of an archive that is open already."""
        spot = cls(archive.source.name, archive.source, None, known or Known())
        spot.__dict__["opened"] = archive
        return spot

    @once
    def opened(self) -> Container | None:
        """It as an archive (a loose bank or audio file is an archive of one entry); None where nothing recognises it."""
        return open_archive(self.source, self.known, self.siblings, self.cache, self.key, self.kind)

    @property
    def archive(self) -> Container:
        """It as an archive; a ZubretError where it is none."""
        if self.opened is None:
            raise gone(self.name, "This is no longer an archive that Zubret can read.")
        return self.opened

    @once
    def bank(self) -> Bank:
        """It as a bank; a ZubretError where it is none."""
        return self.bank_of(self.kind)

    def bank_of(self, kind: Kind | None) -> Bank:
        """It as a bank of a kind that was recognised already."""
        bank = open_bank(self.source, self.known, self.siblings, kind)
        if bank is None:
            raise gone(self.name, "The entry is no longer a bank.")
        return bank

    @property
    def reader(self) -> Container | Bank:
        """What its bytes are read by: an archive, or a bank that stands by itself."""
        if self.opened is not None and self.opened.kind != "file":
            return self.opened
        with suppress(ZubretError):
            return self.bank
        return self.archive

    def entry(self, index: int) -> Spot:
        """An entry of this archive, by its number."""
        archive, key = self.archive, f"{self.key}/{index}"
        content = archive.open(index, self.cache, key)
        if content is self.source:  # a loose file is its own entry
            return Spot(self.name, content, self.siblings, self.known, self.cache, key, self.kind)
        content.name, content.holder = f"{self.name}{IN}{archive.label(index)}", archive.layout_id or archive.kind
        return Spot(content.name, content, archive.beside(index), self.known, self.cache, key)

    def step(self, step: Step, where: str) -> Spot:
        """An entry of this archive where a survey found it; a ZubretError where it is no longer there."""
        check_step(self.archive, step, where)
        return self.entry(step[1])

    def down(self, steps: Sequence[Step], where: str) -> Spot:
        """What several steps lead to."""
        spot = self
        for step in steps:
            spot = spot.step(step, where)
        return spot


def check_step(archive: Container, step: Step, where: str) -> None:
    """ZubretError unless the entry is where a survey found it; `where` says it in the message."""
    path, index = step
    if index >= len(archive.entries) or archive.entries[index].path != path:
        raise gone(where, "The entry is no longer where the survey found it.")


def gone(where: str, what: str) -> ZubretError:
    """The error of what is not there any more."""
    return ZubretError(what, file=where, next="The game has changed: survey it again, then look it up anew.")
