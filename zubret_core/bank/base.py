"""What every bank can do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

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


class Bank(ABC):
    """An opened bank. kind: layout, or file for an audio file that is one stream."""

    kind: str
    layout_id: str
    source: Source
    language: str
    name: str
    streams: list[Stream]

    @abstractmethod
    def rebuild(self, changes: Mapping[int, NewStream], *, anew: bool | Collection[str] = False) -> Built:
        """The bank with some streams replaced, by ordinal."""

    @abstractmethod
    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        """Where each stream's stored bytes stand: (companion or "", byte offset, bytes); None where they stand nowhere
        by themselves."""

    @abstractmethod
    def segments(self) -> list[Segment]:
        """What stands where in the bank."""
