"""Samples as plain numbers, and in the eight bits of G.711; channels interleaved in any of the usual ways.

Sources: WAVE_FORMAT_PCM (Microsoft and IBM, Multimedia Programming Interface, 1991): 8 bits unsigned, more signed;
IEEE 754 for floats; ITU-T G.711 (1988), tables 1a and 2a, with the even bits of A-law inverted (section 3).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room, to_float, to_int16
from ..source import Source
from .base import PIECE, Writes, check_range, check_size, wrong_parameter
from .turns import Turns, check_turns, turns_of

WIDTHS = {"u8": 1, "s8": 1, "a-law": 1, "mu-law": 1, "s16": 2, "s24": 3, "s32": 4, "f32": 4, "f64": 8}
"""Bytes of a sample, by its kind."""
_LABELS = {"a-law": "G.711 A-law", "mu-law": "G.711 mu-law", "f32": "PCM 32 float", "f64": "PCM 64 float"}


def _a_law() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """By segment and interval: the size of the sample, and where its interval begins. 13 bits, at the top of 16."""
    code = np.arange(128)
    segment, interval = code >> 4, code & 15
    shift, lead = np.maximum(segment - 1, 0), np.where(segment == 0, 0, 32)
    return ((interval * 2 + lead + 1) << shift) * 8, ((interval * 2 + lead) << shift) * 8


def _mu_law() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """As for A-law; 14 bits, at the top of 16, with a bias of 33 so that each segment is twice the one before."""
    code = np.arange(128)
    segment, interval = code >> 4, code & 15
    sizes = ((interval * 2 + 33) << segment) - 33
    return sizes * 4, np.maximum(0, sizes - (1 << segment)) * 4


def _tables(law: str) -> tuple[NDArray[np.int16], NDArray[np.uint8]]:
    """int16 of each byte, and the byte of each int16 from -32768 on.

    Of a negative number the ones' complement is taken, so that -1 is as small as 0 (common practice of the
    standard's own tools, ITU-T G.191).
    """
    sizes, edges = _a_law() if law == "a-law" else _mu_law()
    turn, positive = (0x55, 0x80) if law == "a-law" else (0x7F, 0x80)
    codes = np.arange(256) ^ turn
    samples = np.where(codes & positive, sizes[codes & 127], -sizes[codes & 127]).astype(np.int16)
    every = np.arange(-32768, 32768)
    found = np.searchsorted(edges, np.where(every < 0, ~every, every), "right") - 1
    return samples, ((found | np.where(every < 0, 0, positive)) ^ turn).astype(np.uint8)


LAWS = {law: _tables(law) for law in ("a-law", "mu-law")}
"""int16 of each byte, and the byte of each int16 from -32768 on, by law."""


@njit(cache=True)
def _three_bytes(data, big, out):
    """Samples of 24 bits, in [-1, 1): each in the upper three bytes of a number of 32 bits."""
    low, high = (2, 0) if big else (0, 2)
    scale = np.float32(1.0 / (1 << 31))
    for n in range(len(out)):
        at = 3 * n
        value = np.int32(data[at + low]) << 8 | np.int32(data[at + 1]) << 16 | np.int32(data[at + high]) << 24
        out[n] = np.float32(np.int32(value)) * scale


@njit(cache=True)
def _to_three_bytes(samples, big, out):
    """The inverse of `_three_bytes`, to the nearest number, half to even."""
    low, high = (np.uint64(2), np.uint64(0)) if big else (np.uint64(0), np.uint64(2))
    at, scale = np.uint64(0), np.float32(8388608.0)  # scaling by a power of two is exact
    least, most = np.float32(-8388608.0), np.float32(8388607.0)
    for sample in samples:
        value = np.int32(np.rint(min(max(sample * scale, least), most)))
        out[at + low], out[at + np.uint64(1)], out[at + high] = value & 255, value >> 8 & 255, value >> 16 & 255
        at += np.uint64(3)


@dataclass(frozen=True)
class Pcm(Writes):
    """Numbers of one kind.

    sample: u8, s8, s16, s24, s32, f32, f64, a-law or mu-law. order: little or big. interleave, last_turn, last_align: see `InTurns`.
    """

    sample: str = "s16"
    order: str = "little"
    interleave: int | str = 0
    last_turn: str = "short"
    last_align: int = 0

    def __post_init__(self) -> None:
        if self.sample not in WIDTHS:
            raise wrong_parameter("sample", self.sample, f"choose from {', '.join(WIDTHS)}")
        if self.order not in ("little", "big"):
            raise wrong_parameter("order", self.order, "choose little or big")
        check_turns(self, WIDTHS[self.sample])

    @property
    def label(self) -> str:
        known = _LABELS.get(self.sample, f"PCM {WIDTHS[self.sample] * 8}")
        return known + (", channel by channel" if self.interleave == -1 else "")

    def block_frames(self, format: Format) -> int:
        return 1

    def turn_frames(self, format: Format) -> int:
        if format.channels == 1:
            return 1
        return 0 if self.interleave == -1 else self._turns(format).turn

    def _turns(self, format: Format, filled: bool | None = None) -> Turns:
        return turns_of(self, format, WIDTHS[self.sample], format.frames, filled)

    def stored_size(self, format: Format) -> int:
        return self._turns(format).size

    def _check_turns(self, payload: Source, format: Format) -> None:
        """ZubretError where the last turn is evidently filled up, though the layout does not say so: not the payload itself, behind which
        one byte stands again and again then."""
        short, filled = self.stored_size(format), self._turns(format, filled=True).size
        if short < filled == payload.size:
            behind = payload.read(short, filled - short)
            if behind == behind[:1] * len(behind):
                return
            raise ZubretError(
                f"The stream has {payload.size:,} bytes, as if its last turn of {self.interleave:,} bytes a channel were "
                f"filled up; {format.frames:,} frames alone need {short:,}.",
                file=payload.name,
                field="last_turn",
                next='Say "last_turn: filled" in the layout\'s codec.',
            )

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        turns = self._turns(format)
        check_size(payload, turns.size, format.frames)
        self._check_turns(payload, format)
        width, channels = turns.width, format.channels
        if turns.turn == 1 or channels == 1:
            data = payload.read(start * width * channels, frames * width * channels)
            return self._samples(data).reshape(-1, channels)
        parts = []
        while frames:
            take = min(frames, turns.turn - start % turns.turn)
            rows = [self._samples(payload.read(turns.at(start, c), take * width)) for c in range(channels)]
            parts.append(np.stack(rows, axis=1))
            start, frames = start + take, frames - take
        return np.concatenate(parts) if parts else self._samples(b"").reshape(-1, channels)

    def _samples(self, data: bytes) -> NDArray:
        order = "<" if self.order == "little" else ">"
        if self.sample in LAWS:
            return LAWS[self.sample][0][np.frombuffer(data, np.uint8)]
        if self.sample == "s16":
            return np.frombuffer(data, f"{order}i2").astype(np.int16, copy=False)
        if self.sample in ("u8", "s8"):
            return (
                (np.frombuffer(data, np.uint8) ^ (0x80 if self.sample == "u8" else 0)).astype(np.int16) << 8
            ).astype(np.int16)
        if self.sample == "s24":
            out = np.empty(len(data) // 3, np.float32)
            _three_bytes(np.frombuffer(data, np.uint8), order == ">", out)
            return out
        if self.sample == "s32":
            return np.frombuffer(data, f"{order}i4").astype(np.float32) / np.float32(1 << 31)
        values = np.nan_to_num(np.frombuffer(data, f"{order}f{WIDTHS[self.sample]}"), nan=0.0, posinf=1.0, neginf=-1.0)
        return np.clip(values, -1e4, 1e4).astype(np.float32)

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        turns, channels = self._turns(format.with_(frames=len(pcm))), pcm.shape[1]
        out = room(turns.size, np.uint8)
        if turns.turn == 1 or channels == 1:
            for at in range(0, len(pcm), PIECE):
                stored = np.frombuffer(self._bytes(pcm[at : at + PIECE].ravel()), np.uint8)
                out[at * channels * turns.width :][: len(stored)] = stored
            return out.data
        if turns.last:
            silence = np.frombuffer(self._bytes(np.zeros(1, np.int16)), np.uint8)
            out[-turns.last * channels :].reshape(channels, -1)[:] = np.resize(silence, turns.last)
        for start in range(0, len(pcm), turns.turn):
            end = min(start + turns.turn, len(pcm))
            for at in range(start, end, PIECE):
                piece = pcm[at : min(at + PIECE, end)]
                stored = np.frombuffer(self._bytes(piece.T.ravel()), np.uint8).reshape(channels, -1)
                for c in range(channels):
                    out[turns.at(at, c) :][: stored.shape[1]] = stored[c]
        return out.data

    def _bytes(self, samples: NDArray) -> bytes:
        order = "<" if self.order == "little" else ">"
        if self.sample in LAWS:
            return LAWS[self.sample][1][to_int16(samples).astype(np.int64) + 32768].tobytes()
        if self.sample == "s16":
            return to_int16(samples).astype(f"{order}i2", copy=False).tobytes()
        if self.sample in ("u8", "s8"):
            high = np.clip((to_int16(samples).astype(np.int32) + 128) >> 8, -128, 127).astype(np.int8).view(np.uint8)
            return (high ^ (0x80 if self.sample == "u8" else 0)).astype(np.uint8).tobytes()
        if self.sample[0] == "f":
            return to_float(samples).astype(f"{order}f{WIDTHS[self.sample]}").tobytes()
        if self.sample == "s24":
            out = np.empty(3 * len(samples), np.uint8)
            _to_three_bytes(to_float(samples), order == ">", out)
            return out.tobytes()
        top = 1 << 31
        whole = np.clip(np.rint(to_float(samples).astype(np.float64) * top), -top, top - 1).astype(np.int64)
        return whole.astype(f"{order}i4").tobytes()

    def warm(self) -> None:
        if self.sample == "s16":
            for big in (False, True):
                _three_bytes(np.frombuffer(bytes(3), np.uint8), big, np.empty(1, np.float32))
                _to_three_bytes(np.zeros(1, np.float32), big, np.empty(3, np.uint8))
