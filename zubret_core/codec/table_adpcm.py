"""ADPCM with a step table, or a way for a step to change, of the format's own: 2 to 5 bits a sample.

A code's highest bit is the sign; the others say how many halves of a step the sample moves. Then the step changes: an index into a
table goes up or down, or the step itself is scaled. IMA's tables, and the fixed tables of old sound chips, are cases of it (common
practice; IMA Recommended Practices, rev. 3.00, section 6, for the arithmetic).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, room, to_int16
from ..source import BytesSource, Source
from .base import clamped, pieces_of, wrong_parameter
from .resume import Resumable
from .step_adpcm import INDEX_CHANGE, STEPS

UNIT = 8
"""Frames of which the codes of any number of channels fill whole bytes."""


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
def _next(state: Any, c: Any, size: Any, steps: Any, moves: Any, scaled: Any, least: Any, most: Any) -> None:
    """The step behind a code; state[c, 1] is an index, or the step itself where it is scaled."""
    if scaled:
        state[c, 1] = clamped(state[c, 1] * moves[size] >> 8, least, most)
    else:
        state[c, 1] = clamped(state[c, 1] + moves[size], 0, len(steps) - 1)


@njit(cache=True, nogil=True)
def _decode(data: Any, bits: Any, high: Any, steps: Any, moves: Any, how: Any, state: Any, out: Any) -> None:
    """out (frames, channels) of the codes in data; how: whether shifts are summed up, whether steps are scaled, least and most;
    state: (channels, 2) sample and index, or step."""
    shifts, scaled, least, most = how
    place = 0
    sign = 1 << (bits - 1)
    for n in range(out.shape[0]):
        for c in range(out.shape[1]):
            code = np.int64(0)
            for k in range(bits):
                bit = place + k
                if high:
                    code = code << 1 | np.int64(data[bit >> 3] >> (7 - (bit & 7)) & 1)
                else:
                    code |= np.int64(data[bit >> 3] >> (bit & 7) & 1) << k
            place += bits
            size = code & (sign - 1)
            step = state[c, 1] if scaled else steps[state[c, 1]]
            change = _moved(step, size, bits, shifts)
            state[c, 0] = clamped(state[c, 0] - change if code & sign else state[c, 0] + change, -32768, 32767)
            _next(state, c, size, steps, moves, scaled, least, most)
            out[n, c] = state[c, 0]


@njit(cache=True, nogil=True)
def _encode(pcm: Any, bits: Any, high: Any, steps: Any, moves: Any, how: Any, state: Any, out: Any) -> None:
    """The code that comes nearest, sample by sample."""
    shifts, scaled, least, most = how
    place = 0
    sign = 1 << (bits - 1)
    for n in range(pcm.shape[0]):
        for c in range(pcm.shape[1]):
            wanted = np.int64(pcm[n, c])
            step = state[c, 1] if scaled else steps[state[c, 1]]
            best, near, code = np.int64(1) << 40, np.int64(0), np.int64(0)
            for size in range(sign):
                change = _moved(step, size, bits, shifts)
                for side in range(2):
                    after = clamped(state[c, 0] - change if side else state[c, 0] + change, -32768, 32767)
                    if abs(wanted - after) < best:
                        best, near, code = abs(wanted - after), after, size | side * sign
            state[c, 0] = near
            _next(state, c, code & (sign - 1), steps, moves, scaled, least, most)
            for k in range(bits):
                bit = place + k
                if high:
                    out[bit >> 3] |= (code >> (bits - 1 - k) & 1) << (7 - (bit & 7))
                else:
                    out[bit >> 3] |= (code >> k & 1) << (bit & 7)
            place += bits


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

    def _how(self) -> tuple[Any, ...]:
        moves = np.array(self.scale or self.moves, np.int64)
        how = self.rule == "shifts", bool(self.scale), self.least, self.most
        return self.bits, self.nibbles == "high", np.array(self.steps, np.int64), moves, how

    def block_frames(self, format: Format) -> int:
        return 1

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
        _decode(data, *self._how(), state, out)
        if self.stereo == "sum" and format.channels == 2:
            middle, side = out.astype(np.int32).T
            out = np.clip(np.stack([middle + side, middle - side], axis=1), -32768, 32767).astype(np.int16)
        return out, state

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        state = self._start(format)
        out, at = room(self.stored_size(format.with_(frames=len(pcm))), np.uint8), 0
        for piece in pieces_of(pcm):  # a number of frames each that fills whole bytes
            samples = to_int16(piece)
            if self.stereo == "sum" and format.channels == 2:
                left, right = samples.astype(np.int32).T
                samples = np.stack([left + right >> 1, left - right >> 1], axis=1).astype(np.int16)
            stored = np.zeros(self.stored_size(format.with_(frames=len(samples))), np.uint8)
            _encode(np.ascontiguousarray(samples), *self._how(), state, stored)
            out[at : at + len(stored)] = stored
            at += len(stored)
        return out.data

    def warm(self) -> None:
        format = Format("table-adpcm", 8000, 1, 8)
        self.decode(BytesSource(self.encode(np.zeros((8, 1), np.int16), format)), format, 0, 8)
