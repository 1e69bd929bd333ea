"""The bank data/case.bin, which a game may have: kinds of sound that none of its other banks holds, one stream each.

CASE, a count of two bytes, then a record of 22 bytes a stream: id, kind, channels, block, rate, frames, place, size.
All numbers are little-endian. Decoders as plain as those of `plain`: Microsoft ADPCM as registered for WAVE (Multimedia
Standards Update, 1994), CD-ROM XA (common practice), DVI4 of RFC 3551 section 4.5.1, A-law of ITU-T G.711 table 1a.
"""

import struct

import numpy as np

from . import plain
from .adpcm import ADDS, NEXT

RECORD = struct.Struct("<HBBHIIII")
PREDICTORS = ((256, 0), (512, -256), (0, 0), (192, 64), (240, 0), (460, -208), (392, -232))
GROWTH = (230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230)


def sixteen(value):
    """A sample, held to 16 bits."""
    return max(-32768, min(32767, value))


def microsoft(payload, channels, block):
    """Samples of each channel from blocks of Microsoft's ADPCM."""
    rows = [[] for _ in range(channels)]
    for at in range(0, len(payload), block):
        heads = payload[at : at + channels]
        words = struct.unpack_from(f"<{3 * channels}h", payload, at + channels)
        steps, last, before = (list(words[i * channels : (i + 1) * channels]) for i in range(3))
        for c, row in enumerate(rows):
            row += before[c], last[c]
        body = payload[at + 7 * channels : at + block]
        for n, nibble in enumerate(n for byte in body for n in (byte >> 4, byte & 15)):
            c = n % channels
            one, two = PREDICTORS[heads[c]]
            value = (last[c] * one + before[c] * two >> 8) + (nibble - 16 if nibble > 7 else nibble) * steps[c]
            before[c], last[c] = last[c], sixteen(value)
            steps[c] = max(16, GROWTH[nibble] * steps[c] >> 8)
            rows[c].append(last[c])
    return rows


def disc(payload, channels):
    """Samples of each channel from sound groups of 128 bytes."""
    rows = [[0, 0] for _ in range(channels)]
    for at in range(0, len(payload), 128):
        for unit in range(8):
            row = rows[unit % channels]
            one, two = plain.FILTERS[payload[at + 4 + unit] >> 4]
            for word in range(at + 16, at + 128, 4):
                nibble = payload[word + unit // 2] >> 4 * (unit % 2) & 15
                value = (nibble - 16 if nibble > 7 else nibble) * 4096 >> (payload[at + 4 + unit] & 15)
                row.append(sixteen(value + (row[-1] * one + row[-2] * two + 32 >> 6)))
    return [row[2:] for row in rows]


def telephone(payload, block):
    """Samples of one channel from blocks with a sample and a step in front."""
    row = []
    for at in range(0, len(payload), block):
        sample, step, _ = struct.unpack_from(">hBB", payload, at)
        for nibble in (n for byte in payload[at + 4 : at + block] for n in (byte >> 4, byte & 15)):
            sample = sixteen(sample + ADDS[step * 16 + nibble])
            step = NEXT[step * 16 + nibble]
            row.append(sample)
    return [row]


def steps(payload):
    """Each signed byte n changes the sample by 2 n |n|."""
    row, sample = [], 0
    for n in np.frombuffer(payload, np.int8).tolist():
        sample = sixteen(sample + 2 * n * abs(n))
        row.append(sample)
    return [row]


def _a_law(byte):
    byte ^= 0x55
    segment = byte >> 4 & 7
    size = (byte & 15) * 2 + 1
    size = size + 32 << segment - 1 if segment else size
    return size * 8 if byte & 0x80 else -size * 8


def lanes(payload, channels, frames):
    """Signed bytes, 64 of each channel in turn; what is left over at the end in equal parts."""
    data, rows = np.frombuffer(payload, np.int8).astype(int) * 256, [[] for _ in range(channels)]
    for first in range(0, frames, 64):
        piece = data[first * channels : (first + 64) * channels].reshape(channels, -1)
        for row, part in zip(rows, piece.tolist(), strict=True):
            row += part
    return rows


def wide(payload, channels):
    """24 bits, the high byte first, rounded to 16."""
    values = [int.from_bytes(payload[n : n + 3], "big", signed=True) / 256 for n in range(0, len(payload), 3)]
    return _rounded(values, channels)


def _rounded(values, channels):
    return np.clip(np.rint(values), -32768, 32767).astype(int).reshape(-1, channels).T


def decode(kind, payload, channels, block, frames):
    """int16 (frames, channels) of a stream of the case; ValueError where the kind is unknown."""
    if kind == 0:
        rows = microsoft(payload, channels, block)
    elif kind == 1:
        rows = disc(payload, channels)
    elif kind == 2:
        rows = telephone(payload, block)
    elif kind == 3:
        rows = plain.drift(payload, frames).T
    elif kind == 4:
        rows = steps(payload)
    elif kind == 5:
        rows = [[_a_law(byte) for byte in payload]]
    elif kind == 6:
        rows = wide(payload, channels)
    elif kind == 7:
        rows = _rounded(np.frombuffer(payload, "<f4").astype(float) * 32768, channels)
    elif kind == 8:
        rows = lanes(payload, channels, frames)
    else:
        raise ValueError(f"kind {kind} is unknown")
    return np.array(rows, np.int16).T[:frames]


def find(data, id):
    """(kind, channels, block, rate, frames, payload) of a stream; ValueError where it is not there, or not whole."""
    mark, count = struct.unpack_from("<4sH", data)
    if mark != b"CASE":
        raise ValueError("this is no case")
    for n in range(count):
        number, kind, channels, block, rate, frames, at, size = RECORD.unpack_from(data, 6 + RECORD.size * n)
        if number == id:
            if at + size > len(data):
                raise ValueError("the payload leaves the case")
            return kind, channels, block, rate, frames, data[at : at + size]
    raise ValueError("the case has no such stream")
