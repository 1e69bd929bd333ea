"""ADPCM of CD-ROM XA: sound groups of 128 bytes, alone or in the sectors of a disc.

Source: CD-ROM XA audio, 4-bit level B and C (common practice, as general media libraries decode it). A group holds
eight units of 28 samples. Its bytes 4 to 11 are the units' filter and shift (bytes 0 to 3 and 12 to 15 repeat them);
then 28 words of 4 bytes hold one sample of each unit, unit 2k in the low and 2k + 1 in the high half of byte k. In
stereo the even units are left. Each unit is a frame of `filter_adpcm`, which encodes it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room
from ..source import BytesSource, Source
from .base import by_channel, in_units, wrong_parameter
from .filter_adpcm import XA_FILTERS, FilterAdpcm
from .filter_frames import MOST_SHIFT
from .resume import Resumable

GROUP, UNITS, SAMPLES = 128, 8, 28
STEP = UNITS // 2
"""Bytes from one sample of a unit to its next."""
GROUPS = 18
"""Sound groups of a sector."""
_UNIT = FilterAdpcm(frame=1 + SAMPLES // 2)


BYTES = np.uint64(256)
TURN = np.uint64(2 * 256)
"""Numbers of a table of values for one half of a byte, and for one shift."""


def _values() -> NDArray[np.int64]:
    """What a byte's halves stand for at [shift, half, byte], the low half first, in 1/64, as one row. What rounding to the nearest
    adds is in it, so that a look into it is all that a sample costs beside its prediction."""
    halves = np.array([[(byte >> place & 15 ^ 8) - 8 for byte in range(256)] for place in (0, 4)], np.int64)
    return np.concatenate([(halves * (4096 >> shift)).ravel() for shift in range(MOST_SHIFT + 1)]) * 64 + 32


_VALUES = _values()


@njit(cache=True, inline="always")
def _next(value, weights, last, before, clipped):
    """What the filter predicts, corrected by what a nibble stands for.

    clipped: (1,) counts the samples that were cut at full scale. Since counting can't be undone, the processor guesses
    that there is nothing to cut and goes on to the next sample, instead of waiting for the outcome each time.
    """
    sample = last * weights[0] + before * weights[1] + value >> 6
    if np.uint64(sample + 32768) > np.uint64(65535):
        clipped[0] += 1
        return np.int64(-32768) if sample < 0 else np.int64(32767)
    return sample


@njit(cache=True)
def _decode_groups(data, filters, stereo, state, out):
    """Decode groups, one behind the other, to out (samples in turn); the number of a bad unit, counted through, or -1.

    state: (2, 2) the last sample and the one before of left and right. The two units that share a word's byte are done
    side by side in stereo, one after the other in mono.
    """
    last_a, before_a = state[0, 0], state[0, 1]
    last_b, before_b = state[1, 0], state[1, 1]
    clipped = np.zeros(1, np.int64)
    for pair in range(len(data) // GROUP * UNITS // 2):
        group, k = pair // 4 * GROUP, pair % 4
        a, b = np.int64(data[group + 4 + 2 * k]), np.int64(data[group + 5 + 2 * k])
        for word, unit in ((a, 0), (b, 1)):
            if word >> 4 >= len(filters) or word & 15 > MOST_SHIFT:
                return 2 * pair + unit
        low, high = np.uint64(a & 15) * TURN, np.uint64(b & 15) * TURN + BYTES
        weights_a, weights_b = (filters[a >> 4, 0], filters[a >> 4, 1]), (filters[b >> 4, 0], filters[b >> 4, 1])
        words = data[group + 16 + k : group + GROUP]
        row = out[pair * 2 * SAMPLES :][: 2 * SAMPLES]
        if stereo:
            for n in range(0, SAMPLES, 2):
                one, two = np.uint64(words[n * STEP]), np.uint64(words[n * STEP + STEP])
                before_a = _next(_VALUES[low + one], weights_a, last_a, before_a, clipped)
                before_b = _next(_VALUES[high + one], weights_b, last_b, before_b, clipped)
                last_a = _next(_VALUES[low + two], weights_a, before_a, last_a, clipped)
                last_b = _next(_VALUES[high + two], weights_b, before_b, last_b, clipped)
                row[2 * n], row[2 * n + 1], row[2 * n + 2], row[2 * n + 3] = before_a, before_b, last_a, last_b
            continue
        for place, weights, begin in ((low, weights_a, 0), (high, weights_b, SAMPLES)):
            for n in range(0, SAMPLES, 2):
                before_a = _next(_VALUES[place + np.uint64(words[n * STEP])], weights, last_a, before_a, clipped)
                last_a = _next(_VALUES[place + np.uint64(words[n * STEP + STEP])], weights, before_a, last_a, clipped)
                row[begin + n], row[begin + n + 1] = before_a, last_a
    state[0, 0], state[0, 1] = last_a, before_a
    state[1, 0], state[1, 1] = last_b, before_b
    return -1


def _grouped(units: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Sound groups (groups, bytes) of their units (groups, units, bytes): the heads twice, then the samples in words."""
    groups = len(units)
    nibbles = np.stack([units[:, :, 1:] & 15, units[:, :, 1:] >> 4], axis=3).reshape(groups, UNITS, SAMPLES)
    out = np.zeros((groups, GROUP), np.uint8)
    out[:, 4:12] = units[:, :, 0]
    out[:, :4], out[:, 12:16] = out[:, 4:8], out[:, 8:12]
    words = nibbles.transpose(0, 2, 1).reshape(groups, SAMPLES, UNITS // 2, 2)
    out[:, 16:] = (words[:, :, :, 0] | words[:, :, :, 1] << 4).reshape(groups, GROUP - 16)
    return out


@dataclass(frozen=True)
class XaAdpcm(Resumable):
    """Four bits a sample, mono or stereo.

    sector: bytes of a sector that holds 18 groups, 0 where groups follow one another; lead: bytes before the first
    group of a sector (8 of a subheader in sectors of 2,336 bytes, 24 in raw ones of 2,352).
    """

    sector: int = 0
    lead: int = 0
    label: str = "XA ADPCM"

    def __post_init__(self) -> None:
        if self.sector and not 0 <= self.lead <= self.sector - GROUPS * GROUP:
            raise wrong_parameter("sector", self.sector, f"after `lead` it must hold {GROUPS * GROUP:,} bytes of sound")
        if not self.sector and self.lead:
            raise wrong_parameter("lead", self.lead, "it has a meaning only in sectors")

    def block_frames(self, format: Format) -> int:
        if format.channels not in (1, 2):
            raise ZubretError(
                f"{format.channels} channels can't be XA ADPCM.", field="channels", next="It has one channel or two."
            )
        return SAMPLES

    def turn_frames(self, format: Format) -> int:
        return self._unit_frames(format) * (GROUPS if self.sector else 1)

    def _groups(self, format: Format) -> int:
        self.block_frames(format)
        return -(-format.frames * format.channels // (UNITS * SAMPLES))

    def stored_size(self, format: Format) -> int:
        groups = self._groups(format)
        return -(-groups // GROUPS) * self.sector if self.sector else groups * GROUP

    def _plain(self, payload: Source, first: int, count: int) -> NDArray[np.uint8]:
        """(count, 128) out of their sectors."""
        if not self.sector:
            return np.frombuffer(payload.read(first * GROUP, count * GROUP), np.uint8).reshape(-1, GROUP)
        begin, end = first // GROUPS, -(-(first + count) // GROUPS)
        data = payload.read(begin * self.sector, (end - begin) * self.sector)
        sectors = np.frombuffer(data, np.uint8).reshape(-1, self.sector)
        groups = sectors[:, self.lead : self.lead + GROUPS * GROUP].reshape(-1, GROUP)
        return np.ascontiguousarray(groups[first - begin * GROUPS :][:count])

    def _unit_frames(self, format: Format) -> int:
        self.block_frames(format)
        return UNITS * SAMPLES // format.channels

    def _start(self, format: Format) -> NDArray[np.int64]:
        return np.zeros((2, 2), np.int64)

    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        plain, state = self._plain(payload, first, units), state.copy()
        out = np.empty((units * self._unit_frames(format), format.channels), np.int16)
        filters = np.array(XA_FILTERS, np.int64)
        bad = _decode_groups(plain.reshape(-1), filters, format.channels == 2, state, out.reshape(-1))
        if bad >= 0:
            raise ZubretError(
                f"Unit {bad % UNITS} of sound group {first + bad // UNITS:,} names a filter or a shift that there is not.",
                file=payload.name,
                field="filter and shift",
                next="The stream is damaged, or it is not XA ADPCM: check the bank against another copy.",
            )
        return out, state

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        format = format.with_(frames=len(pcm), loop=None)
        out, state = room(self.stored_size(format), np.uint8), self._start(format)
        units = -(-len(pcm) // SAMPLES) * format.channels
        with by_channel(format.channels) as each:
            for sector, count, samples in in_units(pcm, GROUPS * self._unit_frames(format)):
                plain = np.zeros(count * GROUPS * UNITS * _UNIT.frame, np.uint8)
                each(_UNIT.encode_channel, samples, format, 0, state, plain)
                plain[max(0, units - sector * GROUPS * UNITS) * _UNIT.frame :] = 0
                packed = _grouped(plain.reshape(-1, UNITS, _UNIT.frame))
                if self.sector:
                    rows = out[sector * self.sector : (sector + count) * self.sector].reshape(count, self.sector)
                    rows[:, self.lead : self.lead + GROUPS * GROUP] = packed.reshape(count, GROUPS * GROUP)
                else:
                    part = out[sector * GROUPS * GROUP :][: packed.size]
                    part[:] = packed.reshape(-1)[: len(part)]
        return out.data

    def warm(self) -> None:
        format = Format("xa-adpcm", 37800, 1, SAMPLES)
        self.decode(BytesSource(self.encode(np.zeros((SAMPLES, 1), np.int16), format)), format, 0, SAMPLES)
