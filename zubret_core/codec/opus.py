"""What a packet of Opus says of itself, and its identification header.

Source: RFC 6716, 3.1 (the TOC byte) and 3.2; RFC 7845, 5.1 (identification header) and 5.2 (comment header). An Opus
stream always counts at 48,000 Hz.
"""

from __future__ import annotations

import struct

from ..base import ZubretError

RATE = 48_000
HEAD, TAGS = b"OpusHead", b"OpusTags"
_HEAD = struct.Struct("<8sBBHIhB")
FRAME_SIZES = (
    [480, 960, 1920, 2880] * 3  # SILK: 10, 20, 40, 60 ms
    + [480, 960] * 2  # hybrid: 10, 20 ms
    + [120, 240, 480, 960] * 4  # CELT: 2.5, 5, 10, 20 ms
)
"""Frames at 48,000 Hz of one coded frame, by the five highest bits of the TOC byte (RFC 6716, table 2)."""
LONGEST = 5760
"""Frames of a packet at most: 120 ms."""


def identification(channels: int, pre_skip: int, rate: int = RATE) -> bytes:
    """The identification header of a mono or stereo stream (mapping family 0); pre_skip in frames at 48,000 Hz."""
    if channels > 2:
        raise ZubretError(
            f"Opus packets of {channels} channels say how these are coupled only in an identification header.",
            field="channels",
            next="Say in the layout's codec that the headers stand in the stream or in bank.setup.",
        )
    return _HEAD.pack(HEAD, 1, channels, pre_skip, rate, 0, 0)


def facts_of(header: bytes) -> tuple[int, int]:
    """(channels, pre-skip in frames) of an identification header."""
    if len(header) < _HEAD.size or not header.startswith(HEAD) or header[8] >> 4 or not header[9]:
        raise ZubretError(
            "There is no Opus identification header where it should be.",
            field="setup",
            next="Check the layout's codec: where its headers stand, and how packets are framed.",
        )
    _, _, channels, pre_skip, _, _, _ = _HEAD.unpack_from(header)
    return channels, pre_skip
