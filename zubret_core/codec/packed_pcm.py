"""Samples of 9 to 15 bits without a gap between them, as old samplers and discs have them (common practice): two of 12 bits stand in
three bytes."""

from __future__ import annotations

from dataclasses import dataclass
from math import gcd
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, room, to_int16
from ..source import BytesSource, Source
from .base import Writes, check_range, check_size, pieces_of, wrong_parameter


@njit(cache=True, nogil=True)
def _unpack(data: Any, begin: Any, bits: Any, high: Any, out: Any) -> None:
    """Samples from bit `begin` of data on, each at the top of 16 bits; behind the last byte stand two more."""
    for n in range(len(out)):
        place = begin + n * bits
        at, within = place >> 3, place & 7
        if high:
            wide = np.int64(data[at]) << 16 | np.int64(data[at + 1]) << 8 | np.int64(data[at + 2])
            wide >>= 24 - bits - within
        else:
            wide = (np.int64(data[at]) | np.int64(data[at + 1]) << 8 | np.int64(data[at + 2]) << 16) >> within
        out[n] = np.int16(wide << (16 - bits))


@njit(cache=True, nogil=True)
def _pack(samples: Any, bits: Any, high: Any, out: Any) -> None:
    """The inverse of `_unpack` from bit 0 on, to the nearest number; out: zeros, two more than are filled."""
    half, least, most, mask = 1 << (15 - bits), -(1 << (bits - 1)), (1 << (bits - 1)) - 1, (1 << bits) - 1
    for n in range(len(samples)):
        place = n * bits
        at, within = place >> 3, place & 7
        value = np.int64(min(max((np.int64(samples[n]) + half) >> (16 - bits), least), most) & mask)
        wide = value << (24 - bits - within) if high else value << within
        for byte in range(3):
            out[at + byte] |= np.uint8(wide >> (16 - 8 * byte if high else 8 * byte) & 255)


@dataclass(frozen=True)
class PackedPcm(Writes):
    """bits: of a sample, signed; nibbles: whether the lowest or the highest bits of a byte come first. A sample of each channel in turn."""

    bits: int = 12
    nibbles: str = "low"

    def __post_init__(self) -> None:
        if not 9 <= self.bits <= 15:
            raise wrong_parameter("bits", self.bits, "it is 9 to 15")
        if self.nibbles not in ("low", "high"):
            raise wrong_parameter("nibbles", self.nibbles, "choose low or high")

    @property
    def label(self) -> str:
        return f"PCM {self.bits}, packed"

    def block_frames(self, format: Format) -> int:
        return 1

    def turn_frames(self, format: Format) -> int:
        return 8 // gcd(8, format.channels * self.bits)

    def stored_size(self, format: Format) -> int:
        return -(-format.frames * format.channels * self.bits // 8)

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        """Frames [start, start + frames) as int16 (frames, channels)."""
        check_range(payload, format, start, frames)
        check_size(payload, self.stored_size(format), format.frames)
        first, last = (n * format.channels * self.bits for n in (start, start + frames))
        begin, end = first // 8, -(-last // 8)
        data = np.frombuffer(payload.read(begin, end - begin) + bytes(2), np.uint8)
        out = np.empty(frames * format.channels, np.int16)
        _unpack(data, first % 8, self.bits, self.nibbles == "high", out)
        return out.reshape(frames, format.channels)

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        size = self.stored_size(format.with_(frames=len(pcm)))
        out, at = room(size + 2, np.uint8), 0
        out[:] = 0
        for piece in pieces_of(pcm):  # so many frames that each piece begins with a byte
            _pack(to_int16(piece).ravel(), self.bits, self.nibbles == "high", out[at:])
            at += piece.size * self.bits // 8
        return out[:size].data

    def warm(self) -> None:
        format = Format("packed-pcm", 8000, 1, 4)
        self.decode(BytesSource(self.encode(np.zeros((4, 1), np.int16), format)), format, 0, 4)
