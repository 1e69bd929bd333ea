"""IMA ADPCM in blocks, as registered for WAVE (format tag 0x0011).

Source: IMA Digital Audio Focus and Technical Working Groups, "Recommended Practices for
Enhancing Digital Audio Compatibility in Multimedia Systems", rev. 3.00 (1992), section 6 (step
and index tables, decoder); block layout from Microsoft's "New Multimedia Data Types and Data
Techniques" (1994), "DVI ADPCM Wave Type".

A block holds, for each channel, a header of 4 bytes (first sample as int16, step index, a zero
byte); then for each channel in turn 4 bytes with 8 samples of 4 bits, low nibble first. The
header's sample is the block's first frame, so a block of B bytes and C channels has
(B / C - 4) * 2 + 1 frames.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, ZubretError, to_int16
from ..source import Source
from .base import check_range, check_size

STEPS = np.array(
    [
        7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31,
        34, 37, 41, 45, 50, 55, 60, 66, 73, 80, 88, 97, 107, 118, 130, 143,
        157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449, 494, 544, 598, 658,
        724, 796, 876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272, 2499, 2749, 3024,
        3327, 3660, 4026, 4428, 4871, 5358, 5894, 6484, 7132, 7845, 8630, 9493, 10442, 11487, 12635, 13899,
        15289, 16818, 18500, 20350, 22385, 24623, 27086, 29794, 32767,
    ],
    np.int64,
)  # fmt: skip
INDEX_CHANGE = np.array([-1, -1, -1, -1, 2, 4, 6, 8], np.int64)
HIGHEST = len(STEPS) - 1


def _change(nibble: int, step: int) -> int:
    """The difference that a nibble stands for: bits 0 to 2 weigh step/4, step/2, step, plus step/8."""
    change = step >> 3
    if nibble & 1:
        change += step >> 2
    if nibble & 2:
        change += step >> 1
    if nibble & 4:
        change += step
    return -change if nibble & 8 else change


# The decoder's two rules as tables, by step index and nibble: the kernels then have no branches.
CHANGES = np.array([[_change(n, int(step)) for n in range(16)] for step in STEPS], np.int64)
NEXT_INDEX = np.array(
    [[min(HIGHEST, max(0, i + int(INDEX_CHANGE[n & 7]))) for n in range(16)] for i in range(HIGHEST + 1)], np.int64
)
_FOUR_STEPS = 4.0 / STEPS
LOOK_AHEAD = 16
"""Samples on which a block's first step index is tried: more gains less than 0.01 dB on music."""


@njit(cache=True, inline="always")
def _clamped(value, low, high):
    return low if value < low else high if value > high else value


@njit(cache=True)
def _decode_blocks(data, blocks, block_size, channels, out):
    """Decode whole blocks into out (frames, channels); the number of a bad block, or -1."""
    per_block = (block_size // channels - 4) * 2 + 1
    for b in range(blocks):
        head = b * block_size
        body = head + 4 * channels
        first = b * per_block
        frames = min(per_block, out.shape[0] - first)
        for c in range(channels):
            sample = np.int64(data[head + 4 * c]) + (np.int64(np.int8(data[head + 4 * c + 1])) << 8)
            index = np.int64(data[head + 4 * c + 2])
            if index > HIGHEST:
                return b
            out[first, c] = sample
            for n in range(frames - 1):
                at = body + (n // 8 * channels + c) * 4 + n % 8 // 2
                nibble = (np.int64(data[at]) >> (n & 1) * 4) & 15
                sample = _clamped(sample + CHANGES[index, nibble], -32768, 32767)
                index = NEXT_INDEX[index, nibble]
                out[first + 1 + n, c] = sample
    return -1


@njit(cache=True, inline="always")
def _nibble(difference, index):
    """The standard encoder's nibble: the number of quarter steps in a difference, cut off, at most 7."""
    code = min(np.int64(abs(difference) * _FOUR_STEPS[index]), np.int64(7))
    return code + 8 if difference < 0 else code


@njit(cache=True, inline="always")
def _far_sighted(difference, following, index):
    """The standard's nibble or the one above it: which leaves the smaller error on this frame and the next.

    The larger one is often the better where the signal grows, as it lengthens the next step.
    """
    low = _nibble(difference, index)
    if low & 7 == 7:
        return low
    rest = following - CHANGES[index, low]
    then = NEXT_INDEX[index, low]
    here, ahead = difference - CHANGES[index, low], rest - CHANGES[then, _nibble(rest, then)]
    low_error = here * here + ahead * ahead
    rest = following - CHANGES[index, low + 1]
    then = NEXT_INDEX[index, low + 1]
    here, ahead = difference - CHANGES[index, low + 1], rest - CHANGES[then, _nibble(rest, then)]
    return low + 1 if here * here + ahead * ahead < low_error else low


@njit(cache=True)
def _error(pcm, c, first, frames, index):
    """Squared error of encoding `frames` samples of channel c after `first` from a step index."""
    sample, total = np.int64(pcm[first, c]), np.int64(0)
    for n in range(1, frames):
        wanted = np.int64(pcm[first + n, c])
        nibble = _nibble(wanted - sample, index)
        sample = _clamped(sample + CHANGES[index, nibble], -32768, 32767)
        index = NEXT_INDEX[index, nibble]
        total += (wanted - sample) * (wanted - sample)
    return total


@njit(cache=True)
def _best_index(pcm, c, first, frames, running):
    """The first step index of a block: every fourth one, then the neighbours of the best."""
    best, least = running, _error(pcm, c, first, frames, running)
    for index in range(2, HIGHEST + 1, 4):
        error = _error(pcm, c, first, frames, index)
        if error < least:
            best, least = index, error
    middle = best
    for index in range(max(0, middle - 3), min(HIGHEST, middle + 3) + 1):
        error = _error(pcm, c, first, frames, index)
        if error < least:
            best, least = index, error
    return best


@njit(cache=True)
def _encode_blocks(pcm, blocks, block_size, channels, out):
    """Encode pcm (frames, channels), padded to whole blocks, into out."""
    per_block = (block_size // channels - 4) * 2 + 1
    for c in range(channels):
        index = np.int64(0)
        for b in range(blocks):
            head = b * block_size
            body = head + 4 * channels
            first = b * per_block
            index = _best_index(pcm, c, first, min(LOOK_AHEAD, per_block), index)
            sample = np.int64(pcm[first, c])
            out[head + 4 * c] = sample & 255
            out[head + 4 * c + 1] = (sample >> 8) & 255
            out[head + 4 * c + 2] = index
            for n in range(per_block - 1):
                wanted = np.int64(pcm[first + 1 + n, c])
                after = np.int64(pcm[first + min(2 + n, per_block - 1), c])
                nibble = _far_sighted(wanted - sample, after - sample, index)
                sample = _clamped(sample + CHANGES[index, nibble], -32768, 32767)
                index = NEXT_INDEX[index, nibble]
                at = body + (n // 8 * channels + c) * 4 + n % 8 // 2
                out[at] |= nibble << (n & 1) * 4


class ImaAdpcm:
    """Four bits a sample, in blocks that decode by themselves."""

    name = "ima-adpcm"
    label = "IMA ADPCM"

    def block_frames(self, format: Format) -> int:
        groups, rest = divmod(format.block_size, 4 * format.channels)
        if groups < 2 or rest:
            raise ZubretError(
                f"A block of {format.block_size:,} bytes can't hold {format.channels} channels of IMA ADPCM.",
                field="block_size",
                next="The block size must be a multiple of 4 bytes a channel, at least two of them.",
            )
        return (groups - 1) * 8 + 1

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        check_range(payload, format, start, frames)
        per_block = self.block_frames(format)
        first = start // per_block
        blocks = -(-(start + frames) // per_block) - first
        all_blocks = -(-format.frames // per_block)
        check_size(payload, all_blocks * format.block_size, format.frames)
        data = np.frombuffer(payload.read(first * format.block_size, blocks * format.block_size), np.uint8)
        out = np.empty((blocks * per_block, format.channels), np.int16)
        bad = _decode_blocks(data, blocks, format.block_size, format.channels, out)
        if bad >= 0:
            raise ZubretError(
                f"Block {first + bad:,} begins with a step index over {HIGHEST}.",
                file=payload.name,
                offset=(first + bad) * format.block_size,
                field="step index",
                next="The stream is damaged, or it is not IMA ADPCM: check the bank against another copy.",
            )
        skip = start - first * per_block
        return out[skip : skip + frames]

    def encode(self, pcm: NDArray, format: Format) -> bytes:
        per_block = self.block_frames(format)
        samples = to_int16(pcm)
        blocks = -(-len(samples) // per_block)
        short = blocks * per_block - len(samples)
        if short:  # the last block is filled up with its last frame, which costs no bits of accuracy
            samples = np.concatenate([samples, np.repeat(samples[-1:], short, axis=0)])
        out = np.zeros(blocks * format.block_size, np.uint8)
        _encode_blocks(np.ascontiguousarray(samples), blocks, format.block_size, format.channels, out)
        return out.tobytes()

    def warm(self) -> None:
        format = Format("ima-adpcm", 8000, 1, 9, block_size=8)
        from ..source import BytesSource

        self.decode(BytesSource(self.encode(np.zeros((9, 1), np.int16), format)), format, 0, 9)
