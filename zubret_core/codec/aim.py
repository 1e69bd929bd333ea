"""Encoders that can be told how many bits a second they should take: those of Vorbis and Opus.

The library's encoders are told a level from 0 (best) to 1 (smallest) and choose their bits by the sound; so the level that leads to a
bit rate is looked for, on a sample of the sound and then on all of it.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ..base import Format, Signal
from ..source import Source
from . import codec_of
from .file import AudioFile
from .ogg import OggPages
from .packets import OpusPackets, Packets, VorbisPackets

NEAR_BITS = 0.03
"""The share of a bit rate by which what is made may miss it before it is made again."""
ROUNDS, AGAIN = 8, 3
"""How often a sample is encoded to find a level, and all of it."""
SAMPLE, STRETCHES = 12.0, 4
"""Seconds of a sample at most, and of how many stretches it is made."""
OPUS_MOST, OPUS_SPAN = 256_000, 250_000
"""Bits a second of a channel at level 0, and how many fewer at level 1, of libsndfile's Opus encoder (measured)."""
VORBIS_SLOPE = 2.6
"""By how many powers of two level 1 is smaller than level 0, of its Vorbis encoder (measured)."""
RATES = (6_000, 512_000)
"""Bits a second that may be asked for."""


def can_aim(codec: object, format: Format) -> bool:
    """Whether a format leaves its encoder a choice."""
    if isinstance(codec, AudioFile):
        return format.variant in ("OGG/VORBIS", "OGG/OPUS")
    if isinstance(codec, VorbisPackets):
        return codec.headers == "stream"
    return isinstance(codec, OpusPackets) and codec.framing != "fixed"


def bit_rate_of(payload: Source, format: Format) -> float:
    """Bits a second of a stored stream, without the headers of a whole file or of its own."""
    codec, size = codec_of(format), payload.size
    if format.codec == "file" and format.variant in ("OGG/VORBIS", "OGG/OPUS"):
        size -= OggPages(payload).begins
    elif isinstance(codec, Packets) and codec.headers == "stream":
        size -= sum(map(len, codec.header_packets(payload, format)))
    return size * 8 * format.rate / max(1, format.frames)


def sample_of(pcm: Signal, rate: int) -> Signal:
    """Some stretches of a sound, or all of it where it is short."""
    frames = len(pcm)
    length = int(SAMPLE * rate / STRETCHES)
    if frames <= length * STRETCHES:
        return pcm
    starts = (np.arange(STRETCHES) * (frames - length) // (STRETCHES - 1)).tolist()
    return np.concatenate([pcm[at : at + length] for at in starts])


def level_for(bits: float, made: Callable[[float], float], format: Format) -> float:
    """The level at which what is `made` takes so many bits a second, or comes nearest to it. Opus takes fewer by equal steps, Vorbis
    by equal shares, as far as the sound lets it."""
    opus = format.variant == "OGG/OPUS"
    level = (OPUS_MOST - bits / format.channels) / OPUS_SPAN if opus else 0.5
    best, miss = level, math.inf
    tried: set[float] = set()
    for _ in range(ROUNDS):
        level = min(1.0, max(0.0, level))
        if level in tried:
            break
        tried.add(level)
        now = max(1.0, made(level))
        if abs(now - bits) < miss:
            best, miss = level, abs(now - bits)
        if miss <= NEAR_BITS * bits / 2:
            break
        level += (now - bits) / format.channels / OPUS_SPAN if opus else math.log2(now / bits) / VORBIS_SLOPE
    return best
