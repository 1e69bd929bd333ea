"""The game's own decoders and encoders for voices, lanes and tides: slow, plain, and sharing nothing with anybody.

A voice is mu-law of ITU-T G.711. Lanes are 16-bit samples, one whole channel after the other. A tide is ADPCM in
frames of 16 bytes of one channel: a byte with shift (low half) and filter (high half), then 30 nibbles, low half first.
A drift is IMA ADPCM without blocks.
"""

from bisect import bisect
from functools import cache
from itertools import pairwise

import numpy as np

from .adpcm import ADDS, NEXT

FILTERS = ((0, 0), (60, 0), (115, -52), (98, -55))
TIDE, TIDE_FRAMES = 16, 30


def _law(byte):
    byte ^= 0xFF
    size = ((byte & 15) * 2 + 33 << (byte >> 4 & 7)) - 33
    return (-size if byte & 0x80 else size) * 4


LAW = np.array([_law(byte) for byte in range(256)], np.int16)
_ORDER = np.argsort(LAW, kind="stable")


def voice(payload, channels):
    """int16 (frames, channels) of mu-law bytes."""
    return LAW[np.frombuffer(payload, np.uint8)].reshape(-1, channels)


def as_voice(pcm):
    """The nearest mu-law byte of every sample."""
    levels = LAW[_ORDER].astype(int)
    place = np.clip(np.searchsorted(levels, pcm.ravel()), 1, 255)
    lower = pcm.ravel() - levels[place - 1] < levels[place] - pcm.ravel()
    return _ORDER[place - lower].astype(np.uint8).tobytes()


def lanes(payload, channels):
    """int16 (frames, channels) of channels that stand one after the other."""
    return np.ascontiguousarray(np.frombuffer(payload, "<i2").reshape(channels, -1).T)


def as_lanes(pcm):
    """One channel after the other."""
    return np.ascontiguousarray(pcm.T).astype("<i2").tobytes()


def tide(payload, channels, frames):
    """int16 (frames, channels), one nibble after the other."""
    out = [[] for _ in range(channels)]
    for at in range(0, len(payload), TIDE):
        row = out[at // TIDE % channels]
        filter, shift = payload[at] >> 4, payload[at] & 15
        if filter > 3 or shift > 12:
            raise ValueError(f"frame {at // TIDE} has filter {filter} and shift {shift}")
        one, two = FILTERS[filter]
        last, before = (row[-1], row[-2]) if row else (0, 0)
        for byte in payload[at + 1 : at + TIDE]:
            for nibble in (byte & 15, byte >> 4):
                value = (nibble - 16 if nibble > 7 else nibble) * 4096 >> shift
                value += last * one + before * two + 32 >> 6
                value = 32767 if value > 32767 else -32768 if value < -32768 else value
                row.append(value)
                last, before = value, last
    return np.array(out, np.int16).T[:frames]


def as_tide(pcm):
    """Frames with the filter and shift that leave least over; every channel by itself."""
    frames, channels = pcm.shape
    count = -(-frames // TIDE_FRAMES)
    out = bytearray(count * channels * TIDE)
    for c in range(channels):
        samples = np.zeros(count * TIDE_FRAMES, int)
        samples[:frames] = pcm[:, c]
        last = before = 0
        for f in range(count):
            wanted = samples[f * TIDE_FRAMES : (f + 1) * TIDE_FRAMES].tolist()
            best = None
            for filter, (one, two) in enumerate(FILTERS):
                a, b, most = last, before, 0
                for value in wanted:
                    most = max(most, abs(value - (a * one + b * two + 32 >> 6)))
                    a, b = value, a
                shift = next((s for s in range(12, -1, -1) if most <= 7 * 4096 >> s), 0)
                tried = _tide_frame(wanted, one, two, last, before, shift, best and best[0])
                if tried:
                    best = *tried, filter << 4 | shift
            _, nibbles, last, before, head = best
            at = (f * channels + c) * TIDE
            out[at] = head
            for n in range(0, TIDE_FRAMES, 2):
                out[at + 1 + n // 2] = nibbles[n] | nibbles[n + 1] << 4
    return bytes(out)


def _tide_frame(wanted, one, two, last, before, shift, least):
    """(squared error, nibbles, last sample, the one before), None unless the error is below `least`."""
    error, nibbles, step = 0, [], 4096 >> shift
    for value in wanted:
        guess = last * one + before * two + 32 >> 6
        nibble = (value - guess + step // 2) // step
        nibble = 7 if nibble > 7 else -8 if nibble < -8 else nibble
        got = guess + (nibble * 4096 >> shift)
        got = 32767 if got > 32767 else -32768 if got < -32768 else got
        error += (value - got) ** 2
        if least is not None and error >= least:
            return None
        nibbles.append(nibble & 15)
        last, before = got, last
    return error, nibbles, last, before


def drift(payload, frames):
    """int16 (frames, 1) of one run of IMA nibbles, the high half of each byte first, begun at 0 with the least step."""
    out, sample, state = [], 0, 0
    for byte in payload:
        for nibble in (byte >> 4, byte & 15):
            sample = max(-32768, min(32767, sample + ADDS[state + nibble]))
            state = NEXT[state + nibble] * 16
            out.append(sample)
    return np.array(out[:frames], np.int16)[:, None]


@cache
def _nearest(state):
    """(the differences from which on the next higher step is the nearest, nibbles in order of their steps)."""

    def pick(miss):
        return min(range(16), key=lambda n: abs(miss - ADDS[state + n]))

    steps = sorted({ADDS[state + n] for n in range(16)})
    turns = [next(m for m in range((a + b) // 2, b + 1) if ADDS[state + pick(m)] == b) for a, b in pairwise(steps)]
    return turns, [pick(step) for step in steps]


def as_drift(pcm):
    """The nearest nibble for every sample."""
    codes, sample, state = [], 0, 0
    for wanted in pcm[:, 0].tolist() + [0] * (len(pcm) % 2):
        turns, nibbles = _nearest(state)
        code = nibbles[bisect(turns, wanted - sample)]
        sample = max(-32768, min(32767, sample + ADDS[state + code]))
        state = NEXT[state + code] * 16
        codes.append(code)
    return bytes(high << 4 | low for high, low in zip(codes[::2], codes[1::2], strict=True))
