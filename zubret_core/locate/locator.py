"""Where a stream is: the chain of archive, entries and stream that survives a new survey."""

from __future__ import annotations

from dataclasses import dataclass

from ..bank import Bank, Stream
from ..container import GameFolder
from ..source import DiskCache
from .known import Known
from .spot import IN, Spot, Step, gone


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
        return IN.join(p for p in parts if p)

    def bank(self, game: GameFolder, known: Known | None = None, cache: DiskCache | None = None, key: str = "") -> Bank:
        """The bank; ZubretError where the game no longer has it there. key: see `Spot.file`."""
        return Spot.file(game, self.archive, known, cache, key).down(self.entries, str(self)).bank

    def stream_in(self, bank: Bank) -> Stream:
        """The stream in its opened bank; ZubretError where it is no longer there."""
        if self.ordinal >= len(bank.streams) or bank.streams[self.ordinal].id != self.stream_id:
            raise gone(str(self), "The stream is no longer where the survey found it.")
        return bank.streams[self.ordinal]

    def stream(
        self, game: GameFolder, known: Known | None = None, cache: DiskCache | None = None, key: str = ""
    ) -> Stream:
        """The stream; ZubretError where the game no longer has it there."""
        return self.stream_in(self.bank(game, known, cache, key))
