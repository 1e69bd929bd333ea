"""ADPCM of four bits with filters of two taps, in short frames that each choose a filter and a shift.

Source: CD-ROM XA and its relatives (common practice): a frame's first byte holds filter and shift; a nibble n stands
for n * 4096 >> shift, added to what the filter predicts from the last two samples. The default coefficients are the
four of CD-ROM XA, in 1/64.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room
from ..source import BytesSource, Source
from .base import by_channel, clamped, in_units, wrong_parameter
from .resume import Resumable

XA_FILTERS = ((0, 0), (60, 0), (115, -52), (98, -55))
"""What the last two samples weigh, in 1/64."""
MOST_SHIFT = 12
ROUNDINGS = {"truncate": (0, True), "nearest": (32, False), "floor": (0, False)}
"""What is added before the fraction of 6 bits is dropped, and whether it is dropped towards 0."""

BYTES = np.uint64(256)
TURN = np.uint64(2 * 256)
"""Numbers of a table of values for one half of a byte, and for one shift."""


def values(rounding: str, low_first: bool = True) -> NDArray[np.int64]:
    """What a byte's halves stand for at [shift, half, byte], the half of the first sample first, in 1/64, as one row.

    What the rounding adds is in it, so that a look into it is all that a sample costs beside its prediction.
    """
    places = (0, 4) if low_first else (4, 0)
    halves = np.array([[(byte >> place & 15 ^ 8) - 8 for byte in range(256)] for place in places], np.int64)
    shifted = [(halves * (4096 >> shift)).ravel() for shift in range(MOST_SHIFT + 1)]
    return np.concatenate(shifted) * 64 + ROUNDINGS[rounding][0]


_VALUES = {(name, low_first): values(name, low_first) for name in ROUNDINGS for low_first in (False, True)}


@njit(cache=True, inline="always")
def _sum(one, two, last, before, truncate):
    """The filter's sum in 1/64, such that dropping the fraction truncates if that is wanted."""
    total = last * one + before * two
    if truncate:
        total += np.int64(np.uint64(total) >> np.uint64(58))  # 63 to what is below 0
    return total


@njit(cache=True, inline="always")
def _predicted(one, two, last, before, rounding):
    return _sum(one, two, last, before, rounding[1]) + rounding[0] >> 6


@njit(cache=True, inline="always")
def next_sample(value, one, two, last, before, truncate, clipped):
    """What the filter predicts, corrected by what a nibble stands for in a table of `values`.

    clipped: (1,) counts the samples that were cut at full scale. Since counting can't be undone, the processor guesses
    that there is nothing to cut and goes on to the next sample, instead of waiting for the outcome each time.
    """
    sample = _sum(one, two, last, before, truncate) + value >> 6
    if np.uint64(sample + 32768) > np.uint64(65535):
        clipped[0] += 1
        return np.int64(-32768) if sample < 0 else np.int64(32767)
    return sample


@njit(cache=True, inline="always")
def _word(word, filter_high):
    """Filter number and shift of a frame's first byte."""
    return (word >> 4, word & 15) if filter_high else (word & 15, word >> 4)


@njit(cache=True, inline="always")
def _frame_pair(bytes_a, bytes_b, values, places, weights, state, truncate, clipped, out):
    """Samples of a frame of two channels, to `out` in turn.

    places: where `values` begins for both frames' shifts; weights, state: of both channels.
    """
    of_a, of_b = places
    one_a, two_a, one_b, two_b = weights
    last_a, before_a, last_b, before_b = state
    for n in range(len(bytes_a)):
        a, b = of_a + np.uint64(bytes_a[n]), of_b + np.uint64(bytes_b[n])
        before_a = next_sample(values[a], one_a, two_a, last_a, before_a, truncate, clipped)
        before_b = next_sample(values[b], one_b, two_b, last_b, before_b, truncate, clipped)
        out[4 * n], out[4 * n + 1] = before_a, before_b
        last_a = next_sample(values[a + BYTES], one_a, two_a, before_a, last_a, truncate, clipped)
        last_b = next_sample(values[b + BYTES], one_b, two_b, before_b, last_b, truncate, clipped)
        out[4 * n + 2], out[4 * n + 3] = last_a, last_b
    return last_a, before_a, last_b, before_b


@njit(cache=True)
def _decode_frames(data, a, b, shape, filters, values, truncate, state, out):
    """Decode two channels side by side; the number of a bad frame (2 * frame, + 1 in the second), or -1.

    a, b: where their frames begin in data; shape: bytes before a frame's samples, of which the first holds filter and
    shift, and whether the filter is its high half; state: (2, 2) the channels' last sample and the one before; out:
    samples of both in turn. The processor works on one channel while it waits for the other's last sample, so one alone
    costs nearly as much: give it twice.
    """
    header, filter_high = shape
    past = state[0, 0], state[0, 1], state[1, 0], state[1, 1]
    size = len(out) // len(a) // 4
    clipped = np.zeros(1, np.int64)
    for f in range(len(a)):
        filter_a, shift_a = _word(np.int64(data[a[f]]), filter_high)
        filter_b, shift_b = _word(np.int64(data[b[f]]), filter_high)
        if filter_a >= len(filters) or shift_a > MOST_SHIFT:
            return 2 * f
        if filter_b >= len(filters) or shift_b > MOST_SHIFT:
            return 2 * f + 1
        bytes_a, bytes_b = data[a[f] + header :][:size], data[b[f] + header :][:size]
        places = np.uint64(shift_a) * TURN, np.uint64(shift_b) * TURN
        weights = filters[filter_a, 0], filters[filter_a, 1], filters[filter_b, 0], filters[filter_b, 1]
        rows = out[f * size * 4 : (f + 1) * size * 4]
        if truncate:  # two loops, so that neither asks for each sample
            past = _frame_pair(bytes_a, bytes_b, values, places, weights, past, True, clipped, rows)
        else:
            past = _frame_pair(bytes_a, bytes_b, values, places, weights, past, False, clipped, rows)
    state[0, 0], state[0, 1], state[1, 0], state[1, 1] = past
    return -1


@njit(cache=True, inline="always")
def _nibble(difference, shift):
    """The nibble whose value is nearest: values stand 4096 >> shift apart."""
    step = 12 - shift
    return clamped(difference + (1 << step >> 1) >> step, -8, 7)


@njit(cache=True)
def _error(wanted, one, two, shift, last, before, rounding):
    """Squared error of a frame with a filter and a shift."""
    total = np.int64(0)
    for value in wanted:
        guess = _predicted(one, two, last, before, rounding)
        sample = clamped(guess + (_nibble(value - guess, shift) << MOST_SHIFT - shift), -32768, 32767)
        before, last = last, sample
        total += (value - sample) * (value - sample)
    return total


@njit(cache=True, nogil=True)
def _encode_frames(pcm, places, shape, low_first, filters, rounding, reach, state, out):
    """Encode one channel, frames (count, samples), to out[places]; reach: how far around a likely shift is looked; state: the
    channel's last sample and the one before, as they are decoded."""
    header, filter_high = shape
    last, before = state[0], state[1]
    for f in range(len(places)):
        best, best_shift, least = 0, 0, np.int64(-1)
        for number in range(len(filters)):
            one, two = filters[number, 0], filters[number, 1]
            largest, a, b = np.int64(0), last, before
            for n in range(pcm.shape[1]):
                value = np.int64(pcm[f, n])
                largest = max(largest, abs(value - _predicted(one, two, a, b, rounding)))
                a, b = value, a
            likely = MOST_SHIFT
            while likely > 0 and largest > 7 << 12 - likely:
                likely -= 1
            for shift in range(max(0, likely - reach), min(MOST_SHIFT, likely + reach) + 1):
                error = _error(pcm[f], one, two, shift, last, before, rounding)
                if least < 0 or error < least:
                    best, best_shift, least = number, shift, error
        place = places[f]
        out[place] = best << 4 | best_shift if filter_high else best_shift << 4 | best
        one, two = filters[best, 0], filters[best, 1]
        for i in range(pcm.shape[1]):
            guess = _predicted(one, two, last, before, rounding)
            nibble = _nibble(np.int64(pcm[f, i]) - guess, best_shift)
            sample = clamped(guess + (nibble << MOST_SHIFT - best_shift), -32768, 32767)
            before, last = last, sample
            out[place + header + (i >> 1)] |= (nibble & 15) << (0 if (i & 1 == 0) == low_first else 4)
    state[0], state[1] = last, before


@dataclass(frozen=True)
class FilterAdpcm(Resumable):
    """Four bits a sample in frames of `frame` bytes of one channel.

    filters: pairs of coefficients in 1/64. word: how the first byte is laid out, "filter-shift" (high nibble first) or
    "shift-filter". flags: nothing, or what the second byte holds in a frame as it comes, in the loop's first, in its
    last (or the stream's), and in the last of a stream that plays once. nibbles: "low" or "high" first. rounding of
    the prediction: truncate, nearest or floor. interleave: bytes of each channel in turn, a multiple of `frame`;
    0 for one frame, -1 for one whole channel after the other.
    """

    frame: int = 16
    filters: tuple[tuple[int, int], ...] = XA_FILTERS
    word: str = "filter-shift"
    flags: tuple[int, ...] = ()
    nibbles: str = "low"
    rounding: str = "nearest"
    interleave: int = 0
    label: str = "two-tap ADPCM"

    def __post_init__(self) -> None:
        for name, value, known in (
            ("word", self.word, ("filter-shift", "shift-filter")),
            ("nibbles", self.nibbles, ("low", "high")),
            ("rounding", self.rounding, tuple(ROUNDINGS)),
        ):
            if value not in known:
                raise wrong_parameter(name, value, f"choose from {', '.join(known)}")
        if not 1 <= len(self.filters) <= 16 or any(len(f) != 2 or max(map(abs, f)) > 1 << 10 for f in self.filters):
            raise wrong_parameter("filters", self.filters, "it is 1 to 16 pairs of numbers from -1024 to 1024")
        if len(self.flags) not in (0, 4) or any(not 0 <= f < 256 for f in self.flags):
            raise wrong_parameter("flags", self.flags, "it is four bytes: as it comes, loop start, loop end, last")
        if not self._header < self.frame <= 1 << 12:
            raise wrong_parameter("frame", self.frame, f"it is more than {self._header} bytes, and at most 4,096")
        if self.interleave < -1 or (self.interleave % self.frame and self.interleave > 0):
            raise wrong_parameter("interleave", self.interleave, "it is whole frames, 0, or -1 for whole channels")

    @property
    def _header(self) -> int:
        return 2 if self.flags else 1

    @property
    def _shape(self) -> tuple[int, bool]:
        """Bytes of a frame's header, and whether the filter is the first one's high half."""
        return self._header, self.word == "filter-shift"

    def block_frames(self, format: Format) -> int:
        return (self.frame - self._header) * 2

    def _count(self, format: Format) -> int:
        """Frames of the codec in each channel."""
        return -(-format.frames // self.block_frames(format))

    def stored_size(self, format: Format) -> int:
        count, turn = self._count(format), self._turn(format)
        return -(-count // turn) * turn * self.frame * format.channels

    def _turn(self, format: Format) -> int:
        """Frames of one channel that stand together."""
        if self.interleave < 0:
            return max(1, self._count(format))
        return max(1, self.interleave // self.frame)

    def _places(self, format: Format, first: int, count: int, channel: int) -> NDArray[np.int64]:
        turn, n = self._turn(format), np.arange(first, first + count)
        if turn == 1:
            return (n * format.channels + channel) * self.frame
        return ((n // turn * format.channels + channel) * turn + n % turn) * self.frame

    def _unit_frames(self, format: Format) -> int:
        return self.block_frames(format)

    def _start(self, format: Format) -> NDArray[np.int64]:
        return np.zeros((format.channels + format.channels % 2, 2), np.int64)

    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        filters, state, frames = np.array(self.filters, np.int64), state.copy(), units * self.block_frames(format)
        pairs = []
        for c in range(0, format.channels, 2):
            places = [self._places(format, first, units, n) for n in (c, min(c + 1, format.channels - 1))]
            data, a, b = self._read(payload, *places)
            out, truncate = np.empty((frames, 2), np.int16), ROUNDINGS[self.rounding][1]
            known, past = _VALUES[self.rounding, self.nibbles == "low"], state[c : c + 2]
            bad = _decode_frames(data, a, b, self._shape, filters, known, truncate, past, out.reshape(-1))
            if bad >= 0:
                frame, second = divmod(bad, 2)
                raise ZubretError(
                    f"Frame {first + frame:,} of channel {c + second} names a filter or a shift that there is not.",
                    file=payload.name,
                    offset=int(places[second][frame]),
                    field="filter and shift",
                    next="The stream is damaged, or the layout describes its frames wrongly.",
                )
            pairs.append(out)
        whole = pairs[0] if len(pairs) == 1 else np.concatenate(pairs, axis=1)
        return whole[:, : format.channels], state

    def _read(self, payload: Source, a: NDArray, b: NDArray) -> tuple[NDArray[np.uint8], NDArray, NDArray]:
        """The bytes in which the frames of two channels stand, and the frames' places in them."""
        low, high = int(min(a[0], b[0])), int(max(a[-1], b[-1])) + self.frame
        if high - low <= 4 * len(a) * self.frame * 2:
            return np.frombuffer(payload.read(low, high - low), np.uint8), a - low, b - low
        parts = [payload.read(int(p[0]), int(p[-1]) + self.frame - int(p[0])) for p in (a, b)]
        return np.frombuffer(b"".join(parts), np.uint8), a - a[0], b - b[0] + len(parts[0])

    def encode(self, pcm: Signal, format: Format, reach: int = 1) -> memoryview:
        """`reach`: how far around the shift that just fits others are tried."""
        format = format.with_(frames=len(pcm))
        out, state = room(self.stored_size(format), np.uint8), self._start(format)
        with by_channel(format.channels) as each:
            for first, _, samples in in_units(pcm, self.block_frames(format)):
                each(self.encode_channel, samples, format, first, state, out, reach)
        for n, flag in self._flags_of(format).items():
            for c in range(format.channels):
                out[self._places(format, n, 1, c) + 1] = flag
        return out.data

    def encode_channel(
        self, c: int, pcm: NDArray[np.int16], format: Format, first: int, state: NDArray, out: NDArray, reach: int = 1
    ) -> None:
        """Encode whole frames of a channel, from number `first` on, to their places in a stream of this format."""
        channel = np.ascontiguousarray(pcm[:, c]).reshape(-1, self.block_frames(format))
        places = self._places(format, first, len(channel), c)
        filters, rounding = np.array(self.filters, np.int64), ROUNDINGS[self.rounding]
        _encode_frames(channel, places, self._shape, self.nibbles == "low", filters, rounding, reach, state[c], out)
        if self.flags:
            out[places + 1] = self.flags[0]

    def _flags_of(self, format: Format) -> dict[int, int]:
        """By its number, the flag of each frame that has another than the usual one."""
        if not self.flags or not format.frames:
            return {}
        _, loop_start, loop_end, last = self.flags
        end = self._count(format) - 1
        if format.loop is None:
            return {end: last}
        per_frame = self.block_frames(format)
        return {end: loop_end, format.loop.start // per_frame: loop_start, (format.loop.end - 1) // per_frame: loop_end}

    def warm(self) -> None:
        format = Format("filter-adpcm", 8000, 1, 30)
        self.decode(BytesSource(self.encode(np.zeros((30, 1), np.int16), format)), format, 0, 30)
