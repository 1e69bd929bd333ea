"""ADPCM with a step table, or a way for a step to change, of the format's own: 2 to 5 bits a sample.

A code's highest bit is the sign; the others say how many halves of a step the sample moves. Then the step changes: an index into a
table goes up or down, or the step itself is scaled. IMA's tables, and the fixed tables of old sound chips, are cases of it (common
practice; IMA Recommended Practices, rev. 3.00, section 6, for the arithmetic).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from math import gcd
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, room, to_int16
from ..source import BytesSource, Source
from .base import pieces_of, wrong_parameter
from .resume import Resumable
from .step_adpcm import INDEX_CHANGE, STEPS

UNIT = 8
"""Frames of which the codes of any number of channels fill whole bytes."""
STEP = 1 << 14
"""Frames whose codes are taken apart together."""
CODES = 32
"""Of the widest codes, of 5 bits."""
MOVE = 37
"""Bits of a step of up to 2^20 multiplied with up to 2^16, the most that a layout may ask for, and one more."""


@njit(cache=True, nogil=True)
def _moved(step: Any, size: Any, bits: Any, shifts: Any) -> Any:
    """By how much a code without its sign moves the sample."""
    if not shifts:
        return step * (2 * size + 1) >> (bits - 1)
    change = step >> (bits - 1)
    for bit in range(bits - 1):
        if size >> bit & 1:
            change += step >> (bits - 2 - bit)
    return change


@njit(cache=True, nogil=True)
def _unpack(data: Any, bits: Any, high: Any, codes: Any) -> None:
    """The codes in data, one behind the other."""
    if bits == 4:
        one, two = (np.uint8(4), np.uint8(0)) if high else (np.uint8(0), np.uint8(4))
        for n in range(len(codes) >> 1):
            codes[2 * n] = data[n] >> one & np.uint8(15)
            codes[2 * n + 1] = data[n] >> two & np.uint8(15)
        if len(codes) & 1:
            codes[len(codes) - 1] = data[len(codes) >> 1] >> one & np.uint8(15)
        return
    mask = np.uint32((1 << bits) - 1)
    held, have, at = np.uint32(0), np.uint32(0), 0
    for n in range(len(codes)):
        if have < bits:
            byte = np.uint32(data[at])
            held = held << np.uint32(8) | byte if high else held | byte << have
            have += np.uint32(8)
            at += 1
        have -= np.uint32(bits)
        if high:
            codes[n] = held >> have & mask
        else:
            codes[n] = held & mask
            held >>= np.uint32(bits)


@njit(cache=True, nogil=True)
def _pack(codes: Any, bits: Any, high: Any, out: Any) -> None:
    """The inverse of `_unpack`; out: zeros."""
    for n in range(len(codes)):
        place = n * bits
        wide = (
            np.uint32(codes[n]) << np.uint32(16 - bits - (place & 7))
            if high
            else np.uint32(codes[n]) << np.uint32(place & 7)
        )
        one, two = (wide >> np.uint32(8), wide) if high else (wide, wide >> np.uint32(8))
        out[place >> 3] |= np.uint8(one & np.uint32(255))
        if two & np.uint32(255):
            out[(place >> 3) + 1] |= np.uint8(two & np.uint32(255))


@njit(cache=True, nogil=True, inline="always")
def _looked_up(code: Any, sample: Any, row: Any, changes: Any, nexts: Any) -> Any:
    """The sample and the index's row behind a code."""
    entry = np.uint32(row) | np.uint32(code)
    return min(max(sample + changes[entry], np.int32(-32768)), np.int32(32767)), nexts[entry]


@njit(cache=True, nogil=True)
def _by_table(codes: Any, bits: Any, changes: Any, nexts: Any, state: Any, out: Any) -> None:
    """out (frames, channels) of codes; changes, nexts: by index and code, how the sample moves, and the next index's row; state: (channels,
    2) sample and index. Each sample waits for the one before, so two channels are decoded side by side."""
    channels = out.shape[1]
    for c in range(0, channels - 1, 2):
        d, place, beside = c + 1, np.uint64(c), np.uint64(1)
        one, row = np.int32(state[c, 0]), np.int32(state[c, 1]) << np.int32(bits)
        two, line = np.int32(state[d, 0]), np.int32(state[d, 1]) << np.int32(bits)
        for n in range(out.shape[0]):
            one, row = _looked_up(codes[place], one, row, changes, nexts)
            two, line = _looked_up(codes[place + beside], two, line, changes, nexts)
            out[n, c] = one
            out[n, d] = two
            place += np.uint64(channels)
        state[c, 0], state[c, 1], state[d, 0], state[d, 1] = one, row >> bits, two, line >> bits
    if channels & 1:
        c, place = channels - 1, np.uint64(channels - 1)
        one, row = np.int32(state[c, 0]), np.int32(state[c, 1]) << np.int32(bits)
        for n in range(out.shape[0]):
            one, row = _looked_up(codes[place], one, row, changes, nexts)
            out[n, c] = one
            place += np.uint64(channels)
        state[c, 0], state[c, 1] = one, row >> bits


@njit(cache=True, nogil=True, forceinline=True)
def _scaled(
    code: Any, sample: Any, step: Any, bits: Any, rows: Any, least: Any, most: Any, shifts: Any, cut: Any
) -> Any:
    """The sample and the step behind a code. sample: from 0 to 65535, so that one comparison says whether it is beyond full scale.
    rows: see `_rows`. cut counts samples and steps that were cut: see `filter_frames._next`.

    Each step waits for the one before, and where it meets `least` can't be foreseen, so that nothing branches there.
    """
    both = step * rows[code] + rows[code + np.uint64(CODES)]
    if shifts:
        change = _moved(step, np.int64(code) & ((1 << (bits - 1)) - 1), bits, True)
        sample += -change if rows[code] < 0 else change
    else:
        sample += both >> (MOVE + 4)
    step = max((both & ((1 << MOVE) - 1)) >> 8, least)
    if step > most or np.uint64(sample) > np.uint64(65535):
        cut[0] += 1
        return min(max(sample, 0), 65535), min(step, most)
    return sample, step


@njit(cache=True, nogil=True)
def _two_scaled(
    codes: Any, c: Any, bits: Any, rows: Any, least: Any, most: Any, shifts: Any, cut: Any, state: Any, out: Any
) -> None:
    """Two channels side by side, from channel c on. A function of its own, so that all that it needs fits into registers."""
    d, beside = c + 1, np.uint64(1)
    one, step = np.int64(state[c, 0]) + 32768, np.int64(state[c, 1])
    two, pace = np.int64(state[d, 0]) + 32768, np.int64(state[d, 1])
    flat = out.reshape(-1)
    for place in range(np.uint64(c), np.uint64(len(flat)), np.uint64(out.shape[1])):
        one, step = _scaled(np.uint64(codes[place]), one, step, bits, rows, least, most, shifts, cut)
        flat[place] = one - 32768
        two, pace = _scaled(np.uint64(codes[place + beside]), two, pace, bits, rows, least, most, shifts, cut)
        flat[place + beside] = two - 32768
    state[c, 0], state[c, 1], state[d, 0], state[d, 1] = one - 32768, step, two - 32768, pace


@njit(cache=True, nogil=True)
def _by_scale(
    codes: Any, bits: Any, shifts: Any, rows: Any, least: Any, most: Any, cut: Any, state: Any, out: Any
) -> None:
    """out (frames, channels) of codes by which steps are multiplied; rows: see `_rows`; state: (channels, 2) sample and step."""
    channels = out.shape[1]
    for c in range(0, channels - 1, 2):
        if shifts:
            _two_scaled(codes, c, bits, rows, least, most, True, cut, state, out)
        else:  # a call of its own, so that it does not ask for each sample
            _two_scaled(codes, c, bits, rows, least, most, False, cut, state, out)
    if channels & 1:
        c, flat = channels - 1, out.reshape(-1)
        one, step = np.int64(state[c, 0]) + 32768, np.int64(state[c, 1])
        for place in range(np.uint64(c), np.uint64(len(flat)), np.uint64(channels)):
            one, step = _scaled(np.uint64(codes[place]), one, step, bits, rows, least, most, shifts, cut)
            flat[place] = one - 32768
        state[c, 0], state[c, 1] = one - 32768, step


@njit(cache=True, nogil=True)
def _nearest(wanted: Any, sample: Any, bits: Any, step: Any, shifts: Any) -> Any:
    """The code that brings a sample nearest to the wanted one. Larger codes move it farther, so the first one that passes it, or the one
    before that, is it."""
    sign = np.int64(1) << (bits - 1)
    side, far = (sign, sample - wanted) if wanted < sample else (np.int64(0), wanted - sample)
    before = _moved(step, np.int64(0), bits, shifts)
    for size in range(1, sign):
        change = _moved(step, np.int64(size), bits, shifts)
        if change >= far:
            return side | (size if change - far < far - before else size - 1)
        before = change
    return side | (sign - 1)


@njit(cache=True, nogil=True)
def _encode(pcm: Any, bits: Any, steps: Any, moves: Any, how: Any, state: Any, codes: Any) -> None:
    """The code that comes nearest, sample by sample. how: whether shifts are summed up, whether steps are scaled, least and most;
    state: (channels, 2) sample and index, or step."""
    shifts, scaled, least, most = how
    channels, sign = pcm.shape[1], 1 << (bits - 1)
    for c in range(channels):
        sample: Any = np.int64(state[c, 0])
        index: Any = np.int64(state[c, 1])
        place = np.uint64(c)
        for n in range(pcm.shape[0]):
            step = index if scaled else steps[index]
            code = _nearest(np.int64(pcm[n, c]), sample, bits, step, shifts)
            size = code & (sign - 1)
            change = _moved(step, size, bits, shifts)
            sample = min(max(sample - change if code & sign else sample + change, -32768), 32767)
            index = (
                min(max(index * moves[size] >> 8, least), most)
                if scaled
                else min(max(index + moves[size], 0), len(steps) - 1)
            )
            codes[place] = code
            place += np.uint64(channels)
        state[c, 0], state[c, 1] = sample, index


@lru_cache(maxsize=64)
def _tables(
    bits: int, steps: tuple[int, ...], moves: tuple[int, ...], shifts: bool
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """By index and code: by how much the sample moves, and the next index's row."""
    half = 1 << (bits - 1)
    plain = np.array([[_moved(step, size, bits, shifts) for size in range(half)] for step in steps], np.int64)
    index = np.clip(np.arange(len(steps))[:, None] + np.array(moves, np.int64), 0, len(steps) - 1) << bits
    changes = np.clip(np.hstack([plain, -plain]), -(1 << 20), 1 << 20)  # a sample has 16 bits
    return changes.astype(np.int32).ravel(), np.hstack([index, index]).astype(np.int32).ravel()


@lru_cache(maxsize=64)
def _rows(bits: int, scale: tuple[int, ...]) -> NDArray[np.int64]:
    """By code, a factor that says both what a step becomes and by how much the sample moves: below bit MOVE what the step is multiplied
    with, above it how many halves of a step the sample moves, with its sign, in 1/16. CODES places on, what is added to the product: what
    is cut off of a negative move is cut off like that of a positive one."""
    half, unit = 1 << (bits - 1), 1 << (5 - bits)
    rows = np.zeros((2, CODES), np.int64)
    for size, by in enumerate(scale):
        move = (2 * size + 1) * unit
        rows[0, size], rows[0, half + size] = (move << MOVE) + max(by, 0), (-move << MOVE) + max(by, 0)
        rows[1, half + size] = (half - 1) * unit << MOVE
    return rows.ravel()


@dataclass(frozen=True)
class TableAdpcm(Resumable):
    """bits: of a code. steps: the step table, with `moves`: by how much the index into it changes, by a code without its sign; or
    `scale`: what a step is multiplied with, in 1/256, kept between `least` and `most`. rule: whether each part of a difference is
    cut off ("shifts") or the whole ("product"). nibbles: whether the lowest or the highest bits of a byte come first. first, begin: the
    sample, and the index or the step, before the first code. stereo: "apart", or "sum" where the two channels hold half of the
    sum and half of the difference of left and right. Samples of all channels stand in turn.
    """

    bits: int = 4
    steps: tuple[int, ...] = tuple(STEPS.tolist())
    moves: tuple[int, ...] = tuple(INDEX_CHANGE.tolist())
    scale: tuple[int, ...] = ()
    least: int = 1
    most: int = 32767
    rule: str = "shifts"
    nibbles: str = "low"
    first: int = 0
    begin: int = 0
    stereo: str = "apart"
    label: str = "ADPCM with a table of its own"

    def __post_init__(self) -> None:
        if not 2 <= self.bits <= 5:
            raise wrong_parameter("bits", self.bits, "a code has 2 to 5 bits")
        sizes, name = 1 << (self.bits - 1), "scale" if self.scale else "moves"
        given = self.scale or self.moves
        if len(given) != sizes or any(abs(n) > 1 << 16 for n in given):
            raise wrong_parameter(name, f"{len(given)} numbers", f"codes of {self.bits} bits need {sizes} of them")
        if not 1 <= len(self.steps) <= 4096 or any(not 0 <= s <= 1 << 20 for s in self.steps):
            raise wrong_parameter(
                "steps", f"{len(self.steps)} numbers", "they are 1 to 4,096 numbers from 0 to 1,048,576"
            )
        for word, value, known in (
            ("rule", self.rule, ("shifts", "product")),
            ("nibbles", self.nibbles, ("low", "high")),
            ("stereo", self.stereo, ("apart", "sum")),
        ):
            if value not in known:
                raise wrong_parameter(word, value, f"choose {' or '.join(known)}")
        if not 1 <= self.least <= self.most <= 1 << 20:
            raise wrong_parameter("least", self.least, "steps are kept between least and most, from 1 to 1,048,576")
        if not -32768 <= self.first <= 32767:
            raise wrong_parameter("first", self.first, "it is a sample of 16 bits")
        if not (self.least <= self._begin <= self.most if self.scale else 0 <= self.begin < len(self.steps)):
            raise wrong_parameter(
                "begin", self.begin, "it is a step between least and most, or an index into the steps"
            )

    @property
    def _begin(self) -> int:
        return max(self.begin, self.least) if self.scale else self.begin

    @property
    def _shifts(self) -> bool:
        return self.rule == "shifts"

    def block_frames(self, format: Format) -> int:
        return 1

    def turn_frames(self, format: Format) -> int:
        return 8 // gcd(8, format.channels * self.bits)

    def stored_size(self, format: Format) -> int:
        return -(-format.frames * format.channels * self.bits // 8)

    def _unit_frames(self, format: Format) -> int:
        return UNIT

    def _start(self, format: Format) -> NDArray[np.int64]:
        return np.array([[self.first, self._begin]] * format.channels, np.int64)

    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        begin, end = UNIT * first, min(UNIT * (first + units), format.frames)
        at, to = (self.stored_size(format.with_(frames=n)) for n in (begin, end))
        data = np.frombuffer(payload.read(at, to - at), np.uint8)
        out, state = np.empty((end - begin, format.channels), np.int16), state.copy()
        each, cut = np.empty(STEP * format.channels, np.uint8), np.zeros(1, np.int64)
        for n in range(0, len(out), STEP):  # so that its codes stay at hand
            part = out[n : n + STEP]
            codes = each[: part.size]
            _unpack(data[n * format.channels * self.bits // 8 :], self.bits, self.nibbles == "high", codes)
            if self.scale:
                rows = _rows(self.bits, self.scale)
                _by_scale(codes, self.bits, self._shifts, rows, self.least, self.most, cut, state, part)
            else:
                _by_table(codes, self.bits, *_tables(self.bits, self.steps, self.moves, self._shifts), state, part)
        if self.stereo == "sum" and format.channels == 2:
            middle, side = out.astype(np.int32).T
            out = np.clip(np.stack([middle + side, middle - side], axis=1), -32768, 32767).astype(np.int16)
        return out, state

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        state, steps = self._start(format), np.array(self.steps, np.int64)
        how = self._shifts, bool(self.scale), self.least, self.most
        moves = np.array(self.scale or self.moves, np.int64)
        out, at = room(self.stored_size(format.with_(frames=len(pcm))), np.uint8), 0
        for piece in pieces_of(pcm):  # a number of frames each that fills whole bytes
            samples = to_int16(piece)
            if self.stereo == "sum" and format.channels == 2:
                left, right = samples.astype(np.int32).T
                samples = np.stack([left + right >> 1, left - right >> 1], axis=1).astype(np.int16)
            stored = np.zeros(self.stored_size(format.with_(frames=len(samples))), np.uint8)
            codes = np.empty(samples.size, np.uint8)
            _encode(np.ascontiguousarray(samples), self.bits, steps, moves, how, state, codes)
            _pack(codes, self.bits, self.nibbles == "high", stored)
            out[at : at + len(stored)] = stored
            at += len(stored)
        return out.data

    def warm(self) -> None:
        format = Format("table-adpcm", 8000, 1, 8)
        for codec in (self, replace(self, scale=(256,) * 8)):
            codec.decode(BytesSource(codec.encode(np.zeros((8, 1), np.int16), format)), format, 0, 8)
