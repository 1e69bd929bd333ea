"""What every bank can do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from numpy.typing import NDArray

from ..base import Format
from ..codec import codec_of
from ..source import Built, Segment, Source


@dataclass(frozen=True)
class Stream:
    """One piece of audio in a bank.

    ordinal: its number in the bank's table; id and name as stored ("" where there is none);
    at, stored: byte offset in the bank and stored bytes; slot: bytes a replacement may take
    without anything moving; shares: ordinals of the streams in the very same bytes; keeps:
    what a replacement may not change.
    """

    ordinal: int
    id: str
    name: str
    format: Format
    at: int
    stored: int
    slot: int
    language: str
    payload: Source
    shares: tuple[int, ...] = ()
    keeps: tuple[str, ...] = ()

    def decode(self, start: int, frames: int) -> NDArray:
        """Frames [start, start + frames) as (frames, channels)."""
        return codec_of(self.format).decode(self.payload, self.format, start, frames)


@dataclass(frozen=True)
class NewStream:
    """A replacement as it will be stored."""

    payload: Source
    format: Format


class Bank(Protocol):
    """An opened bank."""

    kind: str
    layout_id: str
    source: Source
    streams: list[Stream]

    def rebuild(self, changes: Mapping[int, NewStream], *, anew: bool = False) -> Built:
        """The bank with some streams replaced, by ordinal."""

    def segments(self) -> list[Segment]:
        """What stands where in the bank."""
