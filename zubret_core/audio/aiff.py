"""The chunks of an AIFF file that carry loops.

Source: Apple, "Audio Interchange File Format: AIFF", version 1.3 (1989): Marker chunk, Instrument chunk. Markers stand
between frames, so that a loop from marker to marker is half-open. A play mode of 1 is forward; the sustain loop counts.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Iterator
from typing import IO

from ..base import Loop
from ..source import Source

_INSTRUMENT = struct.Struct(">6bh6h")
_FORWARD = 1
_LONGEST = 1 << 20
"""Bytes of a chunk at most that are looked into."""


def chunks_of(source: Source) -> Iterator[tuple[bytes, int, int]]:
    """Id, place and length of the body of every chunk; an odd one is followed by a byte of fill."""
    at = 12
    while at + 8 <= source.size:
        name, size = struct.unpack(">4sI", source.read(at, 8))
        yield name, at + 8, size
        at += 8 + size + (size & 1)


def aiff_loop(source: Source) -> Loop | None:
    """The forward sustain loop of an AIFF or AIFF-C file; None where there is none."""
    bodies = {
        name: source.read(at, size)
        for name, at, size in chunks_of(source)
        if name in (b"MARK", b"INST") and at + size <= source.size and size <= _LONGEST
    }
    if b"MARK" not in bodies or len(bodies.get(b"INST", b"")) < _INSTRUMENT.size:
        return None
    mode, begin, end = _INSTRUMENT.unpack_from(bodies[b"INST"])[7:10]
    places = dict(_markers(bodies[b"MARK"]))
    if mode != _FORWARD or begin not in places or end not in places:
        return None
    return Loop(places[begin], places[end])


def _markers(body: bytes) -> Iterator[tuple[int, int]]:
    """Id and frame of every marker; its name, which is counted and padded to an even length, is passed over."""
    at = 2
    while at + 7 <= len(body):
        number, place, length = struct.unpack_from(">hIB", body, at)
        yield number, place
        at += 7 + length + (1 - length % 2)


def add_aiff_loop(file: IO[bytes], loop: Loop) -> None:
    """Add markers and an instrument for one endless forward loop to an AIFF file."""
    marks = struct.pack(">H", 2)
    for number, place, name in ((1, loop.start, b"loop start"), (2, loop.end, b"loop end")):
        text = bytes([len(name)]) + name
        marks += struct.pack(">hI", number, place) + text + bytes(len(text) % 2)
    # base note (60: middle C), detune, lowest and highest note, lowest and highest velocity, gain; then play mode and
    # markers of the sustain loop, and those of the release loop, which there is not.
    instrument = _INSTRUMENT.pack(60, 0, 0, 127, 1, 127, 0, _FORWARD, 1, 2, 0, 0, 0)
    for name, body in ((b"MARK", marks), (b"INST", instrument)):
        file.seek(0, io.SEEK_END)
        file.write(name + struct.pack(">I", len(body)) + body + bytes(len(body) % 2))
    size = file.tell() - 8
    file.seek(4)
    file.write(struct.pack(">I", size))
