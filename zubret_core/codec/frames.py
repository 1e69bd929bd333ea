"""Frames that say themselves how long they are: MPEG audio, layers 1 to 3, and AAC behind ADTS headers, without a container.

Sources: ISO/IEC 11172-3, 2.4.1.3 and 2.4.2.3 (header of MPEG audio and its tables), ISO/IEC 13818-3, 2.4.2.3 (half the rates), a
quarter of the rates by common practice; ISO/IEC 13818-7, 6.2 (ADTS) and table 35 (rates). Delay and padding in a first frame
without sound, by common practice of encoders of layer 3.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field
from itertools import product

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import BytesSource, Source

WINDOW = 1 << 20
"""Bytes that are walked at once."""
_BIT_RATES = (
    (0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448, 0),  # layer 1
    (0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 0),  # layer 2
    (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0),  # layer 3
    (0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256, 0),  # layer 1 at lower rates
    (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0),  # layers 2 and 3 at lower rates
)
"""kbit/s by the four bits of a header."""
_RATES = (44100, 48000, 32000)


def _frames() -> NDArray[np.int64]:
    """(16 versions and layers * 64 rates of bits and of samples * 2, with padding or not, 5): bytes, rate, samples, layer and kbit/s of a
    frame; 0 bytes where nothing may stand so."""
    table = np.zeros((16, 64, 2, 5), np.int64)
    for version, layer, bits, index in product((0, 2, 3), (1, 2, 3), range(1, 15), range(3)):
        low = version != 3
        kbits = _BIT_RATES[layer - 1 if not low else 3 if layer == 1 else 4][bits]
        rate = _RATES[index] >> (0 if version == 3 else 1 if version == 2 else 2)
        samples = 384 if layer == 1 else 576 if layer == 3 and low else 1152
        length = 12000 * kbits // rate * 4 if layer == 1 else samples // 8 * 1000 * kbits // rate
        for padding in (0, 4 if layer == 1 else 1):
            facts = length + padding, rate, samples, layer, kbits
            table[version << 2 | 4 - layer, bits << 2 | index, int(padding > 0)] = facts
    return table.reshape(2048, 5)


_FRAMES = _frames()
_LENGTHS = _FRAMES[:, 0].astype(np.int16)
ADTS_RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)
_ADTS_RATES = np.array(ADTS_RATES, np.int64)
MPEG, ADTS = 0, 1
FOLLOW = 8
"""Frames that must follow one another before a chain is believed: by chance one header of 1,500 places does."""
LOOKED_AT = 1 << 14
"""Bytes in which a chain may begin."""
DECODER_DELAY = 529
"""Frames of sound by which a decoder of layer 3 is late by itself."""


@dataclass(frozen=True)
class Walk:
    """The frames of a stream. at, length: places and bytes of those with sound, of all channels' turns; rate in Hz; channels of
    one frame; samples of each channel in a frame; layer (1 to 3; 4 for AAC); kbits: kbit/s of a frame on the average; skip: samples at the
    beginning that are not heard, cut: at the end, None for both where nothing says so."""

    at: NDArray[np.int64]
    length: NDArray[np.int64]
    rate: int
    channels: int
    samples: int
    layer: int
    kbits: int
    skip: int | None = None
    cut: int | None = None
    tag: bytes = field(default=b"", repr=False)


@njit(cache=True)
def _row(data, at):
    """Where _FRAMES tells of a header of MPEG audio."""
    return (np.int64(data[at + 1]) >> 1 & 15) << 7 | np.int64(data[at + 2]) >> 1


@njit(cache=True)
def frame_length(data, at, kind):
    """Bytes of the frame whose header may stand at data[at:at + 8], 0 where none can: the quick part of `header`."""
    second, third = np.int64(data[at + 1]), np.int64(data[at + 2])
    if data[at] != 0xFF:
        return 0
    if kind == ADTS:
        length = np.int64(data[at + 3] & 3) << 11 | np.int64(data[at + 4]) << 3 | np.int64(data[at + 5]) >> 5
        shortest = 9 if second & 1 == 0 else 7
        return length if second & 0xF6 == 0xF0 and third >> 2 & 15 < len(_ADTS_RATES) and length >= shortest else 0
    return np.int64(_LENGTHS[_row(data, at)]) if second & 0xE0 == 0xE0 else 0


@njit(cache=True)
def header(data, at, kind, out):
    """Whether a frame's header stands at data[at:at + 8]; out: bytes of the frame, rate, channels, samples, layer, kbit/s."""
    length, third, fourth = frame_length(data, at, kind), np.int64(data[at + 2]), np.int64(data[at + 3])
    if length == 0:
        return False
    out[0] = length
    if kind == ADTS:
        channels, blocks = (third & 1) << 2 | fourth >> 6, np.int64(data[at + 6]) & 3
        out[1], out[2] = _ADTS_RATES[third >> 2 & 15], 8 if channels == 7 else channels
        out[3], out[4], out[5] = 1024 * (blocks + 1), 4, 0
        return channels > 0
    row = _row(data, at)
    out[1], out[2], out[3] = _FRAMES[row, 1], 1 if fourth >> 6 == 3 else 2, _FRAMES[row, 2]
    out[4], out[5] = _FRAMES[row, 3], _FRAMES[row, 4]
    return fourth & 3 != 2


@njit(cache=True)
def alike(data, one, other, kind, layer):
    """Whether two headers may be of one stream, by the bits that an encoder does not change within one: of layers 1 and 2 also the rate
    of bits (ISO/IEC 11172-3, 2.4.2.3)."""
    if data[one + 1] != data[other + 1]:
        return False
    if kind == ADTS:
        return data[one + 2] & 0xFD == data[other + 2] & 0xFD and data[one + 3] & 0xF0 == data[other + 3] & 0xF0
    fixed = 0xFC if layer < 3 else 0x0C
    return data[one + 2] & fixed == data[other + 2] & fixed and data[one + 3] & 0xCF == data[other + 3] & 0xCF


@njit(cache=True)
def _walk(data, base, start, kind, align, first, places, lengths, final):
    """Frames from data[start:] on; (how many, the place behind the last one, whether what stands there is wrong).

    base: the stream's place of data[0]; first: what the first frame said, zeros before there is one; final: whether data goes on to
    the stream's end.
    """
    count, at, size = 0, start, len(data)
    facts = np.zeros(6, np.int64)
    while count < len(places):
        begin = at
        if align > 1:
            at += -(base + at) % align
        while at < size and data[at] == 0 and align != 1:  # zeros between frames, where a layout says that there may be
            at += max(align, 1)
        if at + 8 > size:
            if final and at < size:
                for n in range(at, size):
                    if data[n]:
                        return count, at, True
                return count, size, False
            return count, min(at, size) if final else begin, False
        if not header(data, at, kind, facts):
            return count, at, True
        if first[1] and (facts[1] != first[1] or facts[2] != first[2] or facts[4] != first[4]):
            return count, at, True
        if at + facts[0] > size:
            return count, at if final else begin, final
        if first[1] == 0:
            first[:] = facts
        places[count], lengths[count] = base + at, facts[0]
        at += facts[0]
        count += 1
    return count, at, False


@njit(cache=True)
def _first(data, kind, align, most, final):
    """The first place from which FOLLOW frames, or all that there are up to the end, stand one behind the other; -1 where there is
    none below `most`."""
    facts, first, size = np.zeros(6, np.int64), np.zeros(6, np.int64), len(data)
    for start in range(min(most, size - 7)):
        if data[start] != 0xFF or not header(data, start, kind, first):
            continue
        at, count = start + first[0], 1
        while count < FOLLOW:
            while align == 0 and at < size and data[at] == 0:
                at += 1
            if at == size and final and count > 1:
                return start
            if at + 8 > size or not header(data, at, kind, facts):
                break
            if not alike(data, start, at, kind, first[4]):
                break
            at, count = at + facts[0], count + 1
        if count == FOLLOW:
            return start
    return -1


@njit(cache=True)
def possible(data, at, size, layer):
    """Whether what stands in a frame of MPEG audio can be decoded: of layer 1 the allocation of bits (ISO/IEC 11172-3, 2.4.2.5:
    15 is forbidden, and what is allotted fits into the frame), of layer 3 how many pairs of values there are (2.4.2.7: 288 at most) and
    how long each part is."""
    channels = 1 if data[at + 3] >> 6 == 3 else 2
    begin = at + (4 if data[at + 1] & 1 else 6)
    if layer == 1:
        bound = 32
        if data[at + 3] >> 6 == 1:
            bound = 4 * ((data[at + 3] >> 4 & 3) + 1)
        count = channels * bound + (32 - bound)
        bits, place = 0, begin * 8
        for n in range(count):
            byte = data[place >> 3]
            allotted = byte & 15 if place & 4 else byte >> 4
            place += 4
            if allotted == 15:
                return False
            if allotted:
                both = channels if n >= channels * bound else 1
                bits += 12 * (allotted + 1) + 6 * both
        return place + bits <= (at + size) * 8
    if layer == 3:
        low = data[at + 1] >> 3 & 3 != 3
        place = begin * 8 + (8 + (1 if channels == 1 else 2) if low else 9 + (5 if channels == 1 else 3) + 4 * channels)
        for _ in range(channels * (1 if low else 2)):
            pairs = 0
            for n in range(12, 21):
                bit = place + n
                pairs = pairs << 1 | (data[bit >> 3] >> (7 - (bit & 7)) & 1)
            if pairs > 288:
                return False
            place += 63 if low else 59
    return True


def chain(source: Source, kind: int, align: int = 1) -> tuple[int, int] | None:
    """Where a chain of frames begins and ends in bytes that nobody has described; None where there is none. What stands behind it
    may be anything."""
    head = np.frombuffer(source.read(0, min(WINDOW, source.size)), np.uint8)
    start = int(_first(head, kind, align, LOOKED_AT, len(head) == source.size))
    if start < 0:
        return None
    at, first = start, np.zeros(6, np.int64)
    places, sizes = np.empty(1 << 14, np.int64), np.empty(1 << 14, np.int64)
    while at < source.size:
        data = source.read(at, min(WINDOW, source.size - at))
        final = at + len(data) == source.size
        count, _, wrong = _walk(np.frombuffer(data, np.uint8), at, 0, kind, align, first, places, sizes, final)
        if not count:
            break
        at = int(places[count - 1] + sizes[count - 1])
        if wrong:
            break
    return start, at


def walk(payload: Source, kind: int, align: int = 1) -> Walk:
    """All frames of a stream; a ZubretError where something else stands between or behind them. align: what each begins at a
    multiple of, with zeros before; 0 where any number of zeros may stand between them."""
    places, lengths = [], []
    first, at, rest = np.zeros(6, np.int64), 0, b""
    while True:
        data = rest + payload.read(at, min(WINDOW, payload.size - at))
        base, at = at - len(rest), at + len(data) - len(rest)
        found, sizes = np.empty(len(data) // 8 + 1, np.int64), np.empty(len(data) // 8 + 1, np.int64)
        final = at >= payload.size
        view = np.frombuffer(data, np.uint8)
        count, end, wrong = _walk(view, base, 0, kind, align, first, found, sizes, final)
        places.append(found[:count])
        lengths.append(sizes[:count])
        rest = data[end:]
        if wrong and not _is_tag(rest, final, sum(map(len, places))):
            raise _no_frame(payload, base + end, kind, sum(map(len, places)))
        if final or wrong:
            break
    at_all, length_all = np.concatenate(places), np.concatenate(lengths)
    if not len(at_all):
        raise _no_frame(payload, 0, kind, 0)
    skip = cut = None
    tag = b""
    if kind == MPEG and first[4] == 3:
        head = payload.read(int(at_all[0]), int(length_all[0]))
        found_tag = tag_of(head)
        if found_tag is not None:
            tag, at_all, length_all = head, at_all[1:], length_all[1:]
            if found_tag != (0, 0):
                skip, cut = found_tag[0] + DECODER_DELAY, max(0, found_tag[1] - DECODER_DELAY)
    rate, channels, samples, layer = (int(n) for n in first[1:5])
    kbits = round(float(length_all.mean()) * 8 * rate / samples / 1000) if len(length_all) else 0
    if kind == MPEG:
        kbits = min(bit_rates(layer, rate < 32_000), key=lambda k: abs(k - kbits))
    return Walk(at_all, length_all, rate, channels, samples, layer, kbits, skip, cut, tag)


def _is_tag(rest: bytes, final: bool, frames: int) -> bool:
    """Whether what stands behind the last frame is no sound: 128 bytes of titles (ID3v1), or a frame that is cut short."""
    return final and frames > 1 and (rest[:3] == b"TAG" and len(rest) == 128)


def _no_frame(payload: Source, at: int, kind: int, frames: int) -> ZubretError:
    what = "ADTS" if kind == ADTS else "MPEG audio"
    behind = (
        f"Behind {frames:,} frames no header of {what} stands here" if frames else f"No header of {what} stands here"
    )
    return ZubretError(
        f"{behind}, or its frame is cut short.",
        file=payload.name,
        offset=at,
        next="The stream is damaged, or the layout must say where it begins and ends, or what its frames are aligned to.",
    )


def tag_of(frame: bytes) -> tuple[int, int] | None:
    """Samples of delay and of padding that a first frame without sound gives, (0, 0) where it gives none; None for a frame of
    sound. Such a frame has the word Xing or Info behind its side information, and an encoder's words behind that."""
    if len(frame) < 4:
        return None
    mono, low = frame[3] >> 6 == 3, frame[1] >> 3 & 3 != 3
    side = (9 if mono else 17) if low else (17 if mono else 32)
    at = 4 + side
    if frame[at : at + 4] not in (b"Xing", b"Info"):
        return None
    flags = int.from_bytes(frame[at + 4 : at + 8], "big")
    at += 8 + 4 * (flags & 1) + 4 * (flags >> 1 & 1) + 100 * (flags >> 2 & 1) + 4 * (flags >> 3 & 1)
    words = frame[at + 21 : at + 24]
    if len(words) < 3 or not frame[at : at + 4].strip(b"\0"):
        return 0, 0
    return words[0] << 4 | words[1] >> 4, (words[1] & 15) << 8 | words[2]


def tag_for(frame: bytes, count: int, delay: int, padding: int) -> bytes:
    """A first frame without sound for `count` frames behind it that begin with `frame`."""
    mono, low = frame[3] >> 6 == 3, frame[1] >> 3 & 3 != 3
    side = (9 if mono else 17) if low else (17 if mono else 32)
    words = b"Info" + (1).to_bytes(4, "big") + count.to_bytes(4, "big")
    encoder = b"Zubret   " + bytes(12) + (delay << 12 | padding).to_bytes(3, "big") + bytes(12)
    facts = np.zeros(6, np.int64)
    head = frame[:2] + bytes([frame[2] | 0x90 if not low else frame[2] & 0x0F | 0xE0]) + frame[3:4]
    head = bytes([head[0], head[1] | 1, head[2] & 0xFD, head[3]])  # no CRC, no padding
    header(np.frombuffer(head + bytes(4), np.uint8), 0, MPEG, facts)
    return (head + bytes(side) + words + encoder).ljust(int(facts[0]), b"\0")


def bit_rates(layer: int, low: bool) -> list[int]:
    """kbit/s that a layer may have; low: below 32,000 Hz."""
    row = layer - 1 if not low else (3 if layer == 1 else 4)
    return [int(k) for k in _BIT_RATES[row] if k]


def warm() -> None:
    """Compile the kernels."""
    nothing = BytesSource(bytes(64))
    chain(nothing, MPEG)
    with suppress(ZubretError):
        walk(nothing, MPEG)
    possible(np.frombuffer(bytes(64), np.uint8), 0, 64, 3)
