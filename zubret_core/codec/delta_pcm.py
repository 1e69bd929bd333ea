"""Differences from a table: each number of 4 or 8 bits says by how much the next sample differs from the last.

Common practice of old sound cards and of full-motion video; every studio has a table of its own.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, room, to_int16
from ..source import BytesSource, Source
from .base import clamped, pieces_of, wrong_parameter
from .resume import Resumable

SQUARES = tuple((n * n if n >= 0 else -n * n) * 2 for n in range(-128, 128))
"""Twice the square of a signed number, which reaches every int16 in two steps: the usual table where none is given."""


@njit(cache=True)
def _decode(codes, table, state, wraps, out):
    """out (frames, channels) from codes of the same shape; state: the sample before of each channel."""
    for c in range(out.shape[1]):
        sample = np.int64(state[c])
        for n in range(out.shape[0]):
            sample += table[codes[n, c]]
            sample = np.int64(np.int16(sample)) if wraps else clamped(sample, -32768, 32767)
            out[n, c] = sample
        state[c] = sample


@njit(cache=True)
def _encode(pcm, ordered, numbers, state, wraps, out):
    """The code of every sample: the difference in the sorted table that comes nearest, without wrapping round; state: as in the
    decoder."""
    for c in range(pcm.shape[1]):
        sample = state[c]
        for n in range(pcm.shape[0]):
            wanted = np.int64(pcm[n, c]) - sample
            k = int(np.searchsorted(ordered, wanted))
            best, least = 0, np.int64(1) << 40
            for near in range(max(0, k - 1), min(len(ordered), k + 1)):
                after = sample + ordered[near]
                if wraps and not -32768 <= after <= 32767:
                    continue
                miss = abs(np.int64(pcm[n, c]) - clamped(after, -32768, 32767))
                if miss < least:
                    best, least = near, miss
            sample = clamped(sample + ordered[best], -32768, 32767)
            out[n, c] = numbers[best]
        state[c] = sample


@dataclass(frozen=True)
class DeltaPcm(Resumable):
    """table: 16 differences for 4 bits a sample, or 256 for 8; by an 8-bit number as it stands, unsigned.

    nibbles: "low" or "high" first, for 4 bits. first: the sample before the first one. wraps: whether a sum beyond 16
    bits wraps round; else it stays at full scale. Samples of all channels stand in turn.
    """

    table: tuple[int, ...] = SQUARES[128:] + SQUARES[:128]
    nibbles: str = "low"
    first: int = 0
    wraps: bool = False
    label: str = "delta PCM"

    def __post_init__(self) -> None:
        if len(self.table) not in (16, 256) or any(abs(d) > 65535 for d in self.table):
            raise wrong_parameter("table", f"{len(self.table)} numbers", "it is 16 or 256 numbers from -65535 to 65535")
        if self.nibbles not in ("low", "high"):
            raise wrong_parameter("nibbles", self.nibbles, "choose low or high")
        if not -32768 <= self.first <= 32767:
            raise wrong_parameter("first", self.first, "it is a sample of 16 bits")

    def block_frames(self, format: Format) -> int:
        return 1

    def turn_frames(self, format: Format) -> int:
        return 1 if len(self.table) == 256 or format.channels % 2 == 0 else 2

    def stored_size(self, format: Format) -> int:
        count = format.frames * format.channels
        return count if len(self.table) == 256 else (count + 1) // 2

    def _unit_frames(self, format: Format) -> int:
        return 2  # a byte may hold a sample of each of two frames

    def _start(self, format: Format) -> NDArray[np.int64]:
        return np.full(format.channels, self.first, np.int64)

    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        begin, end = 2 * first, min(2 * (first + units), format.frames)
        at, to = (self.stored_size(format.with_(frames=n)) for n in (begin, end))
        data = np.frombuffer(payload.read(at, to - at), np.uint8)
        if len(self.table) == 16:
            halves = (data & 15, data >> 4) if self.nibbles == "low" else (data >> 4, data & 15)
            data = np.stack(halves, axis=1).ravel()[: (end - begin) * format.channels]
        out, state = np.empty((end - begin, format.channels), np.int16), state.copy()
        codes = np.ascontiguousarray(data.reshape(end - begin, format.channels))
        _decode(codes, np.array(self.table, np.int64), state, self.wraps, out)
        return out, state

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        table, state = np.array(self.table, np.int64), self._start(format)
        numbers = np.argsort(table, kind="stable")
        out, at = room(self.stored_size(format.with_(frames=len(pcm))), np.uint8), 0
        low, high = (0, 4) if self.nibbles == "low" else (4, 0)
        for piece in pieces_of(pcm):  # an even number of frames each, so that none ends within a byte
            codes = np.empty(piece.shape, np.uint8)
            _encode(np.ascontiguousarray(to_int16(piece)), table[numbers], numbers, state, self.wraps, codes)
            stored = codes.reshape(-1)
            if len(self.table) == 16:
                second = stored[1::2]
                stored = np.left_shift(stored[::2], low, dtype=np.uint8)
                stored[: len(second)] |= second << high
            out[at : at + len(stored)] = stored
            at += len(stored)
        return out.data

    def warm(self) -> None:
        format = Format("delta-pcm", 8000, 1, 4)
        self.decode(BytesSource(self.encode(np.zeros((4, 1), np.int16), format)), format, 0, 4)
