"""What every bank can do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from numpy.typing import NDArray

from ..base import Format, once
from ..codec import codec_of
from ..layout import Document
from ..source import Built, Segment, Source


class Payloads(Protocol):
    """What a bank knows of its streams' bytes; asked only when somebody wants them."""

    def payload(self, ordinal: int) -> Source:
        """The unpacked bytes of a stream."""

    def slot(self, ordinal: int) -> int:
        """Bytes that a replacement may take without anything moving."""

    def told(self, ordinal: int, format: Format) -> Format:
        """A stream's format as its bank would tell it of a replacement that has one."""


SAID = ("label", "gain", "priority")
"""What a bank may say of a stream that nothing else depends on: a text for people, how loud it is played in thousandths, a number."""


def said_of(told: Mapping[str, Sequence | None], n: int) -> tuple[tuple[str, str | int], ...]:
    """What is said of a stream, by the columns of SAID."""
    return tuple(
        (what, values[n]) for what, values in told.items() if values is not None and values[n] not in (None, "")
    )


def spoken(own: object, of_bank: str) -> str:
    """A stream's language: its own, where it has one, or its bank's."""
    return of_bank if not own else "" if own == "none" else str(own)


@dataclass(eq=False)
class Stream:
    """One piece of audio in a bank.

    ordinal: its number in the bank's table; id and name as stored ("" where there is none);
    at, stored: byte offset in the bank and stored bytes; shares: ordinals of the streams in the very same bytes;
    keeps: what a replacement may not change; payloads: gives its bytes; said: what else its bank says of it, of SAID.
    """

    ordinal: int
    id: str
    name: str
    format: Format
    at: int
    stored: int
    language: str
    payloads: Payloads
    shares: tuple[int, ...] = ()
    keeps: tuple[str, ...] = ()
    said: tuple[tuple[str, str | int], ...] = ()

    @once
    def payload(self) -> Source:
        """Its unpacked bytes."""
        return self.payloads.payload(self.ordinal)

    @property
    def slot(self) -> int:
        """Bytes that a replacement may take without anything moving."""
        return self.payloads.slot(self.ordinal)

    def told(self, format: Format) -> Format:
        """The format of a replacement as its bank would tell it: longer, where only stored bytes say how long it is and these hold more."""
        return self.payloads.told(self.ordinal, format)

    def decode(self, start: int, frames: int) -> NDArray:
        """Frames [start, start + frames) as (frames, channels)."""
        return codec_of(self.format).decode(self.payload, self.format, start, frames)


@dataclass(frozen=True)
class OnePayload:
    """The bytes of a bank that is one stream."""

    source: Source

    def payload(self, ordinal: int) -> Source:
        """All of them."""
        return self.source

    def slot(self, ordinal: int) -> int:
        """As many as there are."""
        return self.source.size

    def told(self, ordinal: int, format: Format) -> Format:
        """Files say how long they are."""
        return format


@dataclass(frozen=True)
class NewStream:
    """A replacement as it will be stored."""

    payload: Source
    format: Format


class Bank(ABC):
    """An opened bank. kind: layout, or file for an audio file that is one stream; document: what a layout reads there."""

    kind: str
    layout_id: str
    source: Source
    language: str
    name: str
    streams: list[Stream]
    document: Document | None = None

    @abstractmethod
    def rebuild(self, changes: Mapping[int, NewStream], *, anew: bool | Collection[str] = False) -> Built:
        """The bank with some streams replaced, by ordinal."""

    @abstractmethod
    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        """Where each stream's stored bytes stand: (companion or "", byte offset, bytes); None where they stand nowhere
        by themselves."""

    def unpacked(self, part: str) -> Source:
        """The unpacked bytes of a part that is packed by itself; * is the whole file."""
        return self.source

    def is_filled(self, ordinal: int, size: int) -> bool:
        """Whether behind the first `size` bytes of a stream stands nothing but what fills them up, to a size that can be told."""
        return False

    @abstractmethod
    def segments(self) -> list[Segment]:
        """What stands where in the bank."""
