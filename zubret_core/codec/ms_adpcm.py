"""Microsoft ADPCM in blocks, as registered for WAVE (format tag 0x0002).

Source: Microsoft, "New Multimedia Data Types and Data Techniques" (1994), "Microsoft ADPCM": coefficients, adaptation
table, block header, decoder.

A block begins with a predictor number for each channel, then for each a step (int16), the second frame and the first.
Then come nibbles, the high one first, one of each channel in turn. A block of B bytes and C channels has
(B / C - 7) * 2 + 2 frames.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room
from ..source import BytesSource, Source
from .base import Writes, check_range, check_size, clamped, in_units

COEFFICIENTS = np.array([[256, 0], [512, -256], [0, 0], [192, 64], [240, 0], [460, -208], [392, -232]], np.int64)
"""What the last two samples weigh in a prediction, in 1/256, by predictor."""
ADAPTATION = np.array([230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230], np.int64)
"""By what a nibble multiplies the step, in 1/256."""
LEAST_STEP = 16
HEADER = 7
LOOK_AHEAD = 32
"""Frames on which a block's predictors and first steps are tried."""


@njit(cache=True, inline="always")
def _next_step(step, nibble):
    return max(ADAPTATION[nibble] * step >> 8, LEAST_STEP)


@njit(cache=True)
def _decode_blocks(data, block, out):
    """Decode whole blocks into out (frames, channels); the number of a block with an unknown predictor, or -1."""
    channels = out.shape[1]
    per_block = (block // channels - HEADER) * 2 + 2
    for b in range(-(-out.shape[0] // per_block)):
        head = b * block
        body = (head + HEADER * channels) * 2
        first = b * per_block
        end = min(first + per_block, out.shape[0])
        for c in range(channels):
            predictor = data[head + c]
            if predictor >= len(COEFFICIENTS):
                return b
            one, two = COEFFICIENTS[predictor, 0], COEFFICIENTS[predictor, 1]
            at = head + channels + 2 * c
            step = np.int64(np.int16(np.int64(data[at]) | np.int64(data[at + 1]) << 8))
            at += 2 * channels
            last = np.int64(np.int16(np.int64(data[at]) | np.int64(data[at + 1]) << 8))
            at += 2 * channels
            before = np.int64(np.int16(np.int64(data[at]) | np.int64(data[at + 1]) << 8))
            out[first, c] = before
            if first + 1 < end:
                out[first + 1, c] = last
            place = body + c
            for n in range(first + 2, end):
                nibble = (np.int64(data[place >> 1]) >> ((place & 1) ^ 1) * 4) & 15
                sample = (last * one + before * two >> 8) + (nibble - (nibble & 8) * 2) * step
                sample = clamped(sample, -32768, 32767)
                step = _next_step(step, nibble)
                before, last = last, sample
                out[n, c] = sample
                place += channels
    return -1


@njit(cache=True, inline="always")
def _nibble(difference, step):
    """The nearest multiple of the step, as four bits."""
    half = step // 2
    value = (difference + half) // step if difference >= 0 else -((half - difference) // step)
    return clamped(value, -8, 7) & 15


@njit(cache=True)
def _error(pcm, c, first, frames, predictor, step):
    """Squared error of `frames` frames of channel c from `first` on, of which two stand in the header."""
    one, two = COEFFICIENTS[predictor, 0], COEFFICIENTS[predictor, 1]
    before, last, total = np.int64(pcm[first, c]), np.int64(pcm[first + 1, c]), np.int64(0)
    for n in range(first + 2, first + frames):
        wanted = np.int64(pcm[n, c])
        guess = last * one + before * two >> 8
        nibble = _nibble(wanted - guess, step)
        sample = clamped(guess + (nibble - (nibble & 8) * 2) * step, -32768, 32767)
        step = _next_step(step, nibble)
        before, last = last, sample
        total += (wanted - sample) * (wanted - sample)
    return total


@njit(cache=True)
def _best_start(pcm, c, first, frames):
    """(predictor, step) with which a block begins: all predictors, each with steps around what it leaves over."""
    best, best_step, least = 0, LEAST_STEP, np.int64(-1)
    for predictor in range(len(COEFFICIENTS)):
        one, two = COEFFICIENTS[predictor, 0], COEFFICIENTS[predictor, 1]
        left, count = np.int64(0), np.int64(1)
        for n in range(first + 2, first + min(frames, 8)):
            left += abs(pcm[n, c] - (np.int64(pcm[n - 1, c]) * one + np.int64(pcm[n - 2, c]) * two >> 8))
            count += 1
        for quarters in (1, 2, 4):
            step = clamped(left * quarters // (count * 4), LEAST_STEP, 32767)
            error = _error(pcm, c, first, frames, predictor, step)
            if least < 0 or error < least:
                best, best_step, least = predictor, step, error
    return best, best_step


@njit(cache=True)
def _encode_blocks(pcm, block, out):
    """Encode pcm (frames, channels), whole blocks of it, into out."""
    channels = pcm.shape[1]
    per_block = (block // channels - HEADER) * 2 + 2
    for b in range(len(pcm) // per_block):
        head = b * block
        body = (head + HEADER * channels) * 2
        first = b * per_block
        for c in range(channels):
            predictor, step = _best_start(pcm, c, first, min(per_block, LOOK_AHEAD))
            one, two = COEFFICIENTS[predictor, 0], COEFFICIENTS[predictor, 1]
            before, last = np.int64(pcm[first, c]), np.int64(pcm[first + 1, c])
            out[head + c] = predictor
            at = head + channels + 2 * c
            for value in (step, last, before):
                out[at], out[at + 1] = value & 255, (value >> 8) & 255
                at += 2 * channels
            place = body + c
            for n in range(first + 2, first + per_block):
                guess = last * one + before * two >> 8
                nibble = _nibble(np.int64(pcm[n, c]) - guess, step)
                before, last = last, clamped(guess + (nibble - (nibble & 8) * 2) * step, -32768, 32767)
                step = _next_step(step, nibble)
                out[place >> 1] |= nibble << ((place & 1) ^ 1) * 4
                place += channels


@dataclass(frozen=True)
class MsAdpcm(Writes):
    """Four bits a sample, in blocks that decode by themselves; the block size stands in the format."""

    label: str = "Microsoft ADPCM"

    def block_frames(self, format: Format) -> int:
        body, rest = divmod(format.block_size - HEADER * format.channels, format.channels)
        if body < 1 or rest:
            raise ZubretError(
                f"A block of {format.block_size:,} bytes can't hold {format.channels} channels of Microsoft ADPCM.",
                field="block_size",
                next=f"The block size must be more than {HEADER} bytes for each channel, and as many for each.",
            )
        return body * 2 + 2

    def stored_size(self, format: Format) -> int:
        return -(-format.frames // self.block_frames(format)) * format.block_size

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        check_range(payload, format, start, frames)
        check_size(payload, self.stored_size(format), format.frames)
        per_block, block = self.block_frames(format), format.block_size
        first = start // per_block
        blocks = -(-(start + frames) // per_block) - first
        data = np.frombuffer(payload.read(first * block, blocks * block), np.uint8)
        out = np.empty((blocks * per_block, format.channels), np.int16)
        bad = _decode_blocks(data, block, out)
        if bad >= 0:
            raise ZubretError(
                f"Block {first + bad:,} names a predictor over {len(COEFFICIENTS) - 1}.",
                file=payload.name,
                offset=(first + bad) * block,
                field="predictor",
                next="The stream is damaged, or it is not Microsoft ADPCM: check the bank against another copy.",
            )
        skip = start - first * per_block
        return out[skip : skip + frames]

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        block = format.block_size
        out = room(self.stored_size(format.with_(frames=len(pcm))), np.uint8)
        for first, count, samples in in_units(pcm, self.block_frames(format)):
            _encode_blocks(samples, block, out[first * block : (first + count) * block])
        return out.data

    def warm(self) -> None:
        format = Format("ms-adpcm", 8000, 1, 4, block_size=8)
        self.decode(BytesSource(self.encode(np.zeros((4, 1), np.int16), format)), format, 0, 4)
