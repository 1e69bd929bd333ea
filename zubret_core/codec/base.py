"""What every codec can do."""

from __future__ import annotations

from typing import Protocol

from numpy.typing import NDArray

from ..base import Format, ZubretError
from ..source import Source


class Codec(Protocol):
    """One way to store samples. `payload` is the stream's bytes, `format` what the bank says of it."""

    name: str
    label: str

    def block_frames(self, format: Format) -> int:
        """Frames in one block: a loop must start on a multiple of it. 1 where there are no blocks."""

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        """Frames [start, start + frames) as (frames, channels), int16 where exact, else float32."""

    def encode(self, pcm: NDArray, format: Format) -> bytes:
        """The payload that holds (frames, channels) samples in this format."""

    def warm(self) -> None:
        """Make the first call as fast as the later ones."""


def check_range(payload: Source, format: Format, start: int, frames: int) -> None:
    """ZubretError unless [start, start + frames) lies inside the stream."""
    if start < 0 or frames < 0 or start + frames > format.frames:
        raise ZubretError(
            f"Frames {start:,} to {start + frames:,} were asked of a stream of {format.frames:,}.", file=payload.name
        )


def check_size(payload: Source, needed: int, frames: int) -> None:
    """ZubretError unless the payload is long enough for its declared length."""
    if payload.size < needed:
        raise ZubretError(
            f"The payload has {payload.size:,} bytes, but {frames:,} frames need {needed:,}.",
            file=payload.name,
            field="stored",
            next="The bank is damaged: check the file against another copy.",
        )
