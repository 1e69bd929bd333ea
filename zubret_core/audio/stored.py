"""A stream in a file that holds its payload as it is: nothing is decoded or encoded again.

Sources: RIFF/WAVE as in `riff`; the format tags of RFC 2361 and of Microsoft's "New Multimedia Data Types" (1994):
0002 Microsoft ADPCM, 0006 A-law, 0007 mu-law, 0011 IMA ADPCM; 0001 PCM and 0003 float.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from ..base import Format
from ..codec import Framed, Packets, codec_of, comment_header
from ..codec.ms_adpcm import COEFFICIENTS
from ..codec.pcm import WIDTHS
from ..source import BytesSource, ChainSource, Part, SliceSource, Source
from .riff import wav_head

_ENDINGS = {"WAV": "wav", "WAVEX": "wav", "AIFF": "aiff", "FLAC": "flac", "OGG": "ogg", "MP3": "mp3", "MPEG": "mp3"}

_FRAMED = {"1": "mp1", "2": "mp2", "3": "mp3", "4": "aac"}


def stored_ending(format: Format) -> str:
    """The ending of that file; empty where there is none."""
    if format.codec == "file":
        container, _, subtype = format.variant.partition("/")
        return "opus" if subtype == "OPUS" else _ENDINGS.get(container, "bin")
    if isinstance(codec_of(format), Packets):
        return "opus" if format.codec == "opus" else "ogg"
    if isinstance(codec_of(format), Framed):
        return _FRAMED.get(format.variant[:1], "") if len(format.parameters) == 0 else ""
    return "wav" if _words(format) else ""


def stored_file(payload: Source, format: Format, tags: Mapping[str, str] | None = None) -> Source:
    """The file. Only where `stored_ending` says that there is one."""
    codec = codec_of(format)
    if format.codec == "file" or isinstance(codec, Framed):
        return payload
    if isinstance(codec, Packets):
        names = {"tracknumber" if k == "track" else k: text for k, text in (tags or {}).items()}
        if format.loop:
            names |= {"loopstart": str(format.loop.start), "looplength": str(format.loop.length)}
        return codec.wrapped(payload, format, comment_header(format.codec, names))
    words, size = _words(format), codec.stored_size(format)
    assert words is not None and size is not None
    head = BytesSource(wav_head(words, format, size, tags, 0 if words[:2] == b"\1\0" else format.frames))
    fill = BytesSource(bytes(size % 2))
    body = SliceSource(payload, 0, size)
    return ChainSource([Part(s, 0, s.size) for s in (head, body, fill) if s.size], payload.name)


def _words(format: Format) -> bytes | None:
    """The `fmt ` chunk of a coding that WAVE has a tag for; None where it has none."""
    given = dict(format.parameters)
    rate, channels, block = format.rate, format.channels, format.block_size
    if format.codec in ("pcm", "pcm16", "g711-a", "g711-mu"):
        sample = given.get("sample", {"g711-a": "a-law", "g711-mu": "mu-law"}.get(format.codec, "s16"))
        wrong_order = given.get("order", "little") != "little" and WIDTHS[sample] > 1
        if wrong_order or sample == "s8" or (given.get("interleave", 0) and channels > 1):
            return None
        tag = {"f32": 3, "f64": 3, "a-law": 6, "mu-law": 7}.get(sample, 1)
        width = WIDTHS[sample]
        plain = struct.pack("<HHIIHH", tag, channels, rate, rate * channels * width, channels * width, 8 * width)
        return plain if tag == 1 else plain + bytes(2)
    if format.codec not in ("ima-adpcm", "ms-adpcm") or given or channels > 2:
        return None
    frames = codec_of(format).block_frames(format)
    bytes_a_second = rate * block // frames
    if format.codec == "ima-adpcm":
        return struct.pack("<HHIIHHHH", 0x11, channels, rate, bytes_a_second, block, 4, 2, frames)
    pairs = struct.pack("<H14h", len(COEFFICIENTS), *(n for pair in COEFFICIENTS for n in pair))
    return struct.pack("<HHIIHHHH", 2, channels, rate, bytes_a_second, block, 4, 32, frames) + pairs
