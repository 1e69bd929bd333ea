"""Codecs whose samples each need those before: reading in the middle goes on from a state that was kept."""

from __future__ import annotations

from abc import abstractmethod
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base import Format
from ..source import Source
from .base import Writes, check_range, check_size

APART = 1 << 16
"""Frames between states that are kept."""
MOST = 1 << 14
"""States of one payload at most: 16 hours at 48,000 Hz."""


class Resumable(Writes):
    """Decodes in units of some frames. A state is what a unit needs of those before it.

    The first time that the middle of a stream is asked for, all before it is decoded once, a piece at a time; after
    that, decoding begins at the nearest kept state.
    """

    @abstractmethod
    def stored_size(self, format: Format) -> int:
        """Bytes of a stream of this format."""

    @abstractmethod
    def _unit_frames(self, format: Format) -> int:
        """Frames of a unit."""

    @abstractmethod
    def _start(self, format: Format) -> NDArray:
        """The state before the first unit."""

    @abstractmethod
    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        """Samples of units [first, first + units) from a state, and the state behind them."""

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        """Frames [start, start + frames) as int16 (frames, channels)."""
        check_range(payload, format, start, frames)
        check_size(payload, self.stored_size(format), format.frames)
        if not frames:
            return np.empty((0, format.channels), np.int16)
        unit = self._unit_frames(format)
        first, last, apart = start // unit, -(-(start + frames) // unit), max(1, APART // unit)
        known = payload.memory.setdefault(Resumable, {})
        key: tuple[Any, ...] = (self, format.channels, format.block_size, format.setup)
        at = first // apart * apart
        while at and (*key, at) not in known:
            at -= apart
        state = known[(*key, at)] if at else self._start(format)
        while at + apart <= first:
            _, state = self._run(payload, format, at, apart, state)
            at += apart
            if len(known) < MOST:
                known[(*key, at)] = state
        pcm, state = self._run(payload, format, at, last - at, state)
        skip = start - at * unit
        return np.ascontiguousarray(pcm[skip : skip + frames])
