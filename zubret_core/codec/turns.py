"""Channels in turns: so many bytes of each one, one channel behind the other, until all is there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..base import Format, ZubretError
from .base import wrong_parameter


class InTurns(Protocol):
    """A codec whose channels may stand in turns."""

    @property
    def interleave(self) -> int | str:
        """Bytes of each channel in turn; 0 for one sample or frame, -1 for one whole channel after the other, "block" where each
        stream's block size holds a turn of all channels."""

    @property
    def last_turn(self) -> str:
        """What the last turn is: "short", as the stream's end makes it, or "filled", with as many bytes as the others."""

    @property
    def last_align(self) -> int:
        """What the bytes of a channel in a short one are filled up to a multiple of; 0 for nothing."""


@dataclass(frozen=True)
class Turns:
    """Where samples or frames stand. width: bytes of one; turn: how many of a channel stand together; count: how many of each channel
    there are; last: bytes of a channel in the last turn, if that is not whole."""

    channels: int
    width: int
    turn: int
    count: int
    last: int

    @property
    def size(self) -> int:
        """Bytes of all."""
        return (self.count // self.turn * self.turn * self.width + self.last) * self.channels

    def at(self, number: int, channel: int) -> int:
        """Where the one with a number begins, of a channel."""
        turn, inside = divmod(number, self.turn)
        return int(self.begins(turn, turn + 1, channel)[0]) + inside * self.width

    def begins(self, first: int, end: int, channel: int) -> NDArray[np.int64]:
        """Where turns [first, end) of a channel begin."""
        whole = self.turn * self.width
        out = np.arange(first, end, dtype=np.int64) * (whole * self.channels) + channel * whole
        if end > self.count // self.turn:
            out[-1] += channel * (self.last - whole)  # the channels before it have less there
        return out


def check_turns(codec: InTurns, width: int) -> None:
    """ZubretError where a codec's parameters can't be; width: bytes of what must stay together."""
    much = 0 if codec.interleave == "block" else codec.interleave
    if isinstance(much, str) or much < -1 or (much > 0 and much % width):
        told = f"it is a multiple of {width}, 0, -1 for whole channels, or block"
        raise wrong_parameter("interleave", much, told)
    if codec.last_turn not in ("short", "filled"):
        raise wrong_parameter("last_turn", codec.last_turn, "it is short or filled")
    if codec.last_align < 0 or (codec.last_align and codec.last_turn == "filled"):
        raise wrong_parameter("last_align", codec.last_align, "it is a number of bytes, and of a short last turn only")


def turns_of(codec: InTurns, format: Format, width: int, count: int, filled: bool | None = None) -> Turns:
    """How a stream stands. count: samples or frames of each channel; filled: whether its last turn is, if not as the codec says."""
    channels, much = format.channels, codec.interleave
    if much == "block":
        turn, rest = divmod(format.block_size, channels * width)
        if turn < 1 or rest:
            raise ZubretError(
                f"A block of {format.block_size:,} bytes can't hold a turn of {channels} channels.",
                field="block_size",
                next=f"It must be a multiple of {channels * width} bytes: {width} for each channel.",
            )
    else:
        turn = max(1, count if int(much) < 0 else int(much) // width)
    last = count % turn * width
    if last and channels > 1:
        if codec.last_turn == "filled" if filled is None else filled:
            last = turn * width
        elif codec.last_align:
            last = min(turn * width, -(-last // codec.last_align) * codec.last_align)
    return Turns(channels, width, turn, count, last)
