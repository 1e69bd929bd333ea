"""ADPCM of four bits with a step table: IMA's predictor in WAVE blocks, in RFC 3551's packets, or without any header.

Sources: IMA Digital Audio Focus and Technical Working Groups, "Recommended Practices for Enhancing Digital Audio
Compatibility in Multimedia Systems", rev. 3.00 (1992), section 6 (step and index tables, decoder); block layout of
format tag 0x0011 from Microsoft's "New Multimedia Data Types and Data Techniques" (1994), "DVI ADPCM Wave Type";
RFC 3551, section 4.5.1 (DVI4).

A block begins with a header for each channel, then nibbles, `group` bytes of each channel in turn. In WAVE blocks the
header is 4 bytes (first sample as int16, step index, a zero byte) and its sample is the block's first frame, so that a
block of B bytes and C channels has (B / C - 4) * 2 + 1 frames; group is 4, low nibble first. In DVI4 the header's
sample is only the predictor, high byte first, and so is the high nibble.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room
from ..source import BytesSource, Source
from .base import by_channel, check_range, check_size, clamped, in_units, wrong_parameter
from .resume import Resumable

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


def _change(nibble: int, step: int, rule: str) -> int:
    """The difference that a nibble stands for: bits 0 to 2 weigh step/4, step/2, step, plus step/8.

    The recommendation cuts off each part ("shifts"); some decoders cut off the whole sum ("product").
    """
    if rule == "product":
        change = (2 * (nibble & 7) + 1) * step >> 3
    else:
        change = (step >> 3) + sum(step >> 2 - bit for bit in range(3) if nibble >> bit & 1)
    return -change if nibble & 8 else change


# The decoder's two rules as tables, by step index and nibble: the kernels then have no branches.
CHANGES = {
    rule: np.array([[_change(n, int(step), rule) for n in range(16)] for step in STEPS], np.int64)
    for rule in ("shifts", "product")
}
NEXT_INDEX = np.array(
    [[min(HIGHEST, max(0, i + int(INDEX_CHANGE[n & 7]))) for n in range(16)] for i in range(HIGHEST + 1)], np.int64
)
_FOUR_STEPS = 4.0 / STEPS
_MUCH = STEPS * STEPS >> 3
"""Squared error of three frames from which more nibbles are tried: below it they gain less than 0.01 dB on speech and music."""
AHEAD = 2
"""Samples behind the one that is encoded which have a say in its nibble."""
LOOK_AHEAD = 16
"""Samples on which a block's first step index is tried: more gains less than 0.01 dB on music."""


@njit(cache=True, nogil=True)
def _decode_blocks(data, block, shape, changes, state, out):
    """Decode whole blocks into out (frames, channels); the number of a bad block, or -1.

    block: its bytes. shape: header bytes of a channel, whether they are low byte first, whether their sample is a
    frame, nibbles of each channel in turn, and whether the high nibble comes first. state: (channels, 2) sample and
    index, which go on from block to block where there are no headers.
    """
    header, little, is_frame, group, high = shape
    channels = out.shape[1]
    nibbles = (block // channels - header) * 2
    per_block = nibbles + is_frame
    for b in range(-(-out.shape[0] // per_block)):
        head = b * block
        body = (head + header * channels) * 2
        for c in range(channels):
            at = b * per_block
            end = min(at + per_block, out.shape[0])
            sample, index = state[c, 0], state[c, 1]
            if header:
                first, second = np.int64(data[head + header * c]), np.int64(data[head + header * c + 1])
                sample = np.int64(np.int16(first | second << 8 if little else first << 8 | second))
                index = np.int64(data[head + header * c + 2])
                if index > HIGHEST:
                    return b
            if is_frame:
                out[at, c] = sample
                at += 1
            place = body + c * group
            while at < end:
                for n in range(place, place + min(group, end - at)):
                    nibble = (np.int64(data[n >> 1]) >> ((n & 1) ^ high) * 4) & 15
                    sample = clamped(sample + changes[index, nibble], -32768, 32767)
                    index = NEXT_INDEX[index, nibble]
                    out[at, c] = sample
                    at += 1
                place += group * channels
            state[c, 0], state[c, 1] = sample, index
    return -1


@njit(cache=True, inline="always")
def _nibble(difference, index):
    """The standard encoder's nibble: the number of quarter steps in a difference, cut off, at most 7."""
    return min(np.int64(abs(difference) * _FOUR_STEPS[index]), np.int64(7)) | difference >> 60 & 8


@njit(cache=True, inline="always")
def _error_with(nibble, first, second, third, index, changes, least):
    """The squared error on this frame and the next two with a nibble, or `least`, if it is not below that. On the next frame the
    standard's nibble and the one above are tried; on the third the standard's."""
    moved = changes[index, nibble]
    here = (first - moved) * (first - moved)
    if here >= least:
        return least
    then = NEXT_INDEX[index, nibble]
    following = _nibble(second - moved, then)
    for other in range(following, following + (1 if following & 7 == 7 else 2)):
        after = moved + changes[then, other]
        error = here + (second - after) * (second - after)
        if error < least:
            at = NEXT_INDEX[then, other]
            rest = third - after
            rest -= changes[at, _nibble(rest, at)]
            least = min(least, error + rest * rest)
    return least


@njit(cache=True, nogil=True)
def _far_sighted(first, second, third, index, changes):
    """The nibble which leaves the smallest squared error on this frame and the next two.

    first, second, third: what is wanted of them less the sample before. The standard's nibble is tried and those beside
    it, since a larger one lengthens the next step, a smaller one shortens it. Where much is left, so are the largest either
    way, which make the step long in time for an attack.
    """
    usual = _nibble(first, index)
    best, least = usual, np.int64(1) << 62
    size, sign = usual & 7, usual & 8
    for nibble in (usual, sign | min(size + 1, 7), sign | max(size - 1, 0)):
        error = _error_with(nibble, first, second, third, index, changes, least)
        if error < least:
            best, least = nibble, error
    if least > _MUCH[index]:
        for nibble in (7, 15):
            error = _error_with(nibble, first, second, third, index, changes, least)
            if error < least:
                best, least = nibble, error
    return best


@njit(cache=True, nogil=True)
def _error(pcm, c, first, frames, index, changes):
    """Squared error of encoding `frames` samples of channel c after `first` from a step index."""
    sample, total = np.int64(pcm[first, c]), np.int64(0)
    for n in range(1, frames):
        wanted = np.int64(pcm[first + n, c])
        nibble = _nibble(wanted - sample, index)
        sample = clamped(sample + changes[index, nibble], -32768, 32767)
        index = NEXT_INDEX[index, nibble]
        total += (wanted - sample) * (wanted - sample)
    return total


@njit(cache=True, nogil=True)
def _best_index(pcm, c, first, frames, running, changes):
    """The first step index of a block: every fourth one, then the neighbours of the best."""
    best, least = running, _error(pcm, c, first, frames, running, changes)
    for index in range(2, HIGHEST + 1, 4):
        error = _error(pcm, c, first, frames, index, changes)
        if error < least:
            best, least = index, error
    middle = best
    for index in range(max(0, middle - 3), min(HIGHEST, middle + 3) + 1):
        error = _error(pcm, c, first, frames, index, changes)
        if error < least:
            best, least = index, error
    return best


@njit(cache=True, nogil=True)
def _encode_blocks(c, pcm, blocks, block, shape, changes, state, out):
    """Encode channel c of pcm (frames, channels), so many whole blocks of it, into out; the others are as in the decoder.

    Samples behind the last block are only looked at. state: that of the channel, which goes on from block to block.
    """
    header, little, is_frame, group, high = shape
    channels = pcm.shape[1]
    nibbles = (block // channels - header) * 2
    per_block = nibbles + is_frame
    sample, index = state[c, 0], state[c, 1]
    for b in range(blocks):
        head = b * block
        first = b * per_block
        if header:
            index = _best_index(pcm, c, first, min(LOOK_AHEAD, per_block), index, changes)
            if is_frame or state[c, 2] == 0:
                sample = np.int64(pcm[first, c])
            low, top = sample & 255, (sample >> 8) & 255
            out[head + header * c] = low if little else top
            out[head + header * c + 1] = top if little else low
            out[head + header * c + 2] = index
            state[c, 2] = 1
        place, done = (head + header * channels) * 2 + c * group, 0
        last = (first + per_block if header else len(pcm)) - 1  # a header begins anew, so nothing behind it counts
        for at in range(first + is_frame, first + per_block):
            second, third = np.int64(pcm[min(at + 1, last), c]), np.int64(pcm[min(at + 2, last), c])
            nibble = _far_sighted(np.int64(pcm[at, c]) - sample, second - sample, third - sample, index, changes)
            sample = clamped(sample + changes[index, nibble], -32768, 32767)
            index = NEXT_INDEX[index, nibble]
            n = place + done
            out[n >> 1] |= nibble << ((n & 1) ^ high) * 4
            done += 1
            if done == group:
                place, done = place + group * channels, 0
    state[c, 0], state[c, 1] = sample, index


@dataclass(frozen=True)
class StepAdpcm(Resumable):
    """Four bits a sample by IMA's tables.

    header: "wave", "dvi4" or "none" (one run of nibbles that begins with sample 0 and step index 0). nibbles: which
    one comes first, "low" or "high". group: bytes of each channel in turn; 0 for one nibble of each. rule: how a
    nibble's difference is rounded, "shifts" or "product". The block size stands in the format.
    """

    header: str = "wave"
    nibbles: str = "low"
    group: int = 4
    rule: str = "shifts"
    label: str = "IMA ADPCM"

    def __post_init__(self) -> None:
        for name, value, known in (
            ("header", self.header, ("wave", "dvi4", "none")),
            ("nibbles", self.nibbles, ("low", "high")),
            ("rule", self.rule, tuple(CHANGES)),
        ):
            if value not in known:
                raise wrong_parameter(name, value, f"choose from {', '.join(known)}")
        if not 0 <= self.group <= 1 << 16:
            raise wrong_parameter("group", self.group, "it is bytes of a channel, or 0 for nibbles in turn")

    def _group(self, channels: int) -> int:
        """Bytes of each channel in turn; one run of nibbles of one channel has no turns."""
        return 1 if self.header == "none" and channels == 1 else self.group

    def _shape(self, channels: int) -> tuple[int, int, int, int, int]:
        header = 0 if self.header == "none" else 4
        return (
            header,
            int(self.header == "wave"),
            int(self.header == "wave"),
            self._group(channels) * 2 or 1,
            int(self.nibbles == "high"),
        )

    def _block(self, format: Format) -> int:
        """Bytes of a block; without headers the smallest one that is whole in every channel."""
        if self.header == "none":
            return max(1, self._group(format.channels)) * format.channels
        return format.block_size

    def block_frames(self, format: Format) -> int:
        if self.header == "none":
            return 1
        return self._per_block(format)

    def turn_frames(self, format: Format) -> int:
        return self._per_block(format)

    def _per_block(self, format: Format) -> int:
        header, _, is_frame, group, _ = self._shape(format.channels)
        block = self._block(format)
        body, rest = divmod(block - header * format.channels, format.channels)
        if body < 1 or rest or body * 2 % group:
            raise ZubretError(
                f"A block of {format.block_size:,} bytes can't hold {format.channels} channels of {self.label}.",
                field="block_size",
                next=f"The block size must be {header} bytes a channel and then a multiple of "
                f"{max(1, self.group)} bytes a channel.",
            )
        return body * 2 + is_frame

    def stored_size(self, format: Format) -> int:
        return -(-format.frames // self._per_block(format)) * self._block(format)

    def _unit_frames(self, format: Format) -> int:
        return self._per_block(format)

    def _start(self, format: Format) -> NDArray[np.int64]:
        return np.zeros((format.channels, 2), np.int64)

    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        per_block, block = self._per_block(format), self._block(format)
        data = np.frombuffer(payload.read(first * block, units * block), np.uint8)
        out, state = np.empty((units * per_block, format.channels), np.int16), state.copy()
        whole = len(data) if self.header == "none" else block
        bad = _decode_blocks(data, whole, self._shape(format.channels), CHANGES[self.rule], state, out)
        if bad >= 0:
            raise ZubretError(
                f"Block {first + bad:,} begins with a step index over {HIGHEST}.",
                file=payload.name,
                offset=(first + bad) * block,
                field="step index",
                next="The stream is damaged, or it is not IMA ADPCM: check the bank against another copy.",
            )
        return out, state

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        if self.header == "none":
            return super().decode(payload, format, start, frames)
        check_range(payload, format, start, frames)
        check_size(payload, self.stored_size(format), format.frames)
        per_block = self._per_block(format)
        first = start // per_block
        blocks = -(-(start + frames) // per_block) - first
        skip = start - first * per_block
        return self._run(payload, format, first, blocks, self._start(format))[0][skip : skip + frames]

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        block, per_block = self._block(format), self._per_block(format)
        out = room(self.stored_size(format.with_(frames=len(pcm))), np.uint8)
        shape, changes = self._shape(format.channels), CHANGES[self.rule]
        state = np.zeros((format.channels, 3), np.int64)  # sample, index, and whether it has begun
        with by_channel(format.channels, apart=shape[3] > 1) as each:  # else two channels share a byte
            for first, count, samples in in_units(pcm, per_block, AHEAD):
                to = out[first * block : (first + count) * block]
                each(_encode_blocks, samples, count, block, shape, changes, state, to)
        return out.data

    def warm(self) -> None:
        format = Format("ima-adpcm", 8000, 1, 9, block_size=8)
        self.decode(BytesSource(self.encode(np.zeros((9, 1), np.int16), format)), format, 0, 9)
