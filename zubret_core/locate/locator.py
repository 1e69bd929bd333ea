"""Where a stream is: the chain of archive, entry and stream that survives a new survey."""

from __future__ import annotations

from dataclasses import dataclass

from ..bank import Bank, Stream
from ..base import ZubretError
from ..container import GameFolder
from ..source import DiskCache
from .recognise import open_archive, open_bank


@dataclass(frozen=True)
class Locator:
    """Archive path below the game's folder, entry path and number, stream id and ordinal."""

    archive: str
    entry: str
    entry_index: int
    stream_id: str
    ordinal: int

    def __str__(self) -> str:
        parts = [self.archive, self.entry, self.stream_id]
        if self.entry == self.archive.rsplit("/", 1)[-1]:
            parts.pop(1)
        return " › ".join(p for p in parts if p)


def open_bank_at(game: GameFolder, locator: Locator, cache: DiskCache | None = None, key: str = "") -> Bank:
    """The bank of a locator; ZubretError where the game no longer has it there.

    `key` names the version of the archive, for the cache of unpacked entries.
    """
    archive = open_archive(game.open(locator.archive))
    if archive is None:
        raise _gone(locator, "The file is no longer an archive.")
    if locator.entry_index >= len(archive.entries) or archive.entries[locator.entry_index].path != locator.entry:
        raise _gone(locator, "The entry is no longer where the survey found it.")
    bank = open_bank(archive.open(locator.entry_index, cache, f"{key}/{locator.entry_index}"))
    if bank is None:
        raise _gone(locator, "The entry is no longer a bank.")
    return bank


def stream_in(bank: Bank, locator: Locator) -> Stream:
    """The stream of a locator in its opened bank; ZubretError where it is no longer there."""
    if locator.ordinal >= len(bank.streams) or bank.streams[locator.ordinal].id != locator.stream_id:
        raise _gone(locator, "The stream is no longer where the survey found it.")
    return bank.streams[locator.ordinal]


def open_stream(game: GameFolder, locator: Locator, cache: DiskCache | None = None, key: str = "") -> Stream:
    """The stream at a locator: `open_bank_at` and `stream_in` in one."""
    return stream_in(open_bank_at(game, locator, cache, key), locator)


def _gone(locator: Locator, what: str) -> ZubretError:
    return ZubretError(what, file=str(locator), next="The game has changed: survey it again, then look it up anew.")
