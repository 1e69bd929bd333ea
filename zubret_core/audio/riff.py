"""The chunks of a RIFF/WAVE file that carry loops.

Source: "Multimedia Programming Interface and Data Specifications 1.0" (1991), chapter 3 (RIFF,
WAVE, `fmt `, `data`), and Microsoft's "New Multimedia Data Types" (1994), Sample Chunk: `smpl`
holds 9 words, then 6 words a loop; dwStart and dwEnd count frames, and dwEnd is the last frame
played, so that the half-open end is dwEnd + 1.
"""

from __future__ import annotations

import struct

from ..base import Format, Loop, ZubretError
from ..source import Source

LARGEST = 0xFFFFFFFF


def wav_header(format: Format) -> bytes:
    """The bytes before the samples of a 16-bit WAV file with this format and loop.

    `smpl` stands before `data`, so that a reader may begin at any frame with header and data only.
    """
    size = format.frames * format.channels * 2
    width = format.channels * 2
    chunks = b"fmt " + struct.pack("<IHHIIHH", 16, 1, format.channels, format.rate, format.rate * width, width, 16)
    if format.loop:
        chunks += smpl_chunk(format)
    total = 4 + len(chunks) + 8 + size
    if total > LARGEST:
        raise ZubretError(
            f"{size:,} bytes of samples do not fit into a WAV file, which ends at 4 GB.",
            next="Take the stream out as Ogg.",
        )
    return b"RIFF" + struct.pack("<I", total) + b"WAVE" + chunks + b"data" + struct.pack("<I", size)


def smpl_chunk(format: Format) -> bytes:
    """The sample chunk with one endless forward loop."""
    assert format.loop
    # manufacturer, product, sample period in ns, unity note (60: middle C), fraction, SMPTE
    # format and offset, number of loops, sampler data; then id, type (0: forward), start, last
    # frame, fraction, play count (0: without end).
    words = (0, 0, round(1e9 / format.rate), 60, 0, 0, 0, 1, 0, 0, 0, format.loop.start, format.loop.end - 1, 0, 0)
    return b"smpl" + struct.pack("<I15I", 60, *words)


def smpl_loop(source: Source) -> Loop | None:
    """The first forward loop of a RIFF/WAVE file, half-open; None where there is none."""
    at = 12
    while at + 8 <= source.size:
        name, size = struct.unpack("<4sI", source.read(at, 8))
        if name == b"smpl" and size >= 60 and at + 68 <= source.size:
            words = struct.unpack("<15I", source.read(at + 8, 60))
            if words[7] >= 1 and words[10] == 0:
                return Loop(words[11], words[12] + 1)
        at += 8 + size + (size & 1)
    return None
