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


RATES = (8_000, 12_000, 16_000, 24_000, 48_000)
"""Rates at which a bank may count; the sound itself is always at 48,000 Hz."""
_COUPLED = {3: (2, 1, (0, 2, 1)), 4: (2, 2, (0, 1, 2, 3)), 5: (3, 2, (0, 4, 1, 2, 3)), 6: (4, 2, (0, 4, 1, 2, 3, 5)),
            7: (4, 3, (0, 4, 1, 2, 3, 5, 6)), 8: (5, 3, (0, 6, 1, 2, 3, 4, 5, 7))}  # fmt: skip
"""Of mapping family 1 (RFC 7845, 5.1.1.2): coded streams, how many of them are pairs, and where each channel is, as the encoder of
the codec's authors lays them (common practice)."""


def identification(channels: int, pre_skip: int, rate: int = RATE) -> bytes:
    """The identification header of a stream: mapping family 0 up to stereo, family 1 up to eight channels; pre_skip in frames at
    48,000 Hz."""
    if channels <= 2:
        return _HEAD.pack(HEAD, 1, channels, pre_skip, rate, 0, 0)
    if channels not in _COUPLED:
        raise ZubretError(
            f"Opus has no usual order of {channels} channels.",
            field="channels",
            next="Say in the layout's codec that the headers stand in the stream or in bank.setup.",
        )
    streams, pairs, places = _COUPLED[channels]
    return _HEAD.pack(HEAD, 1, channels, pre_skip, rate, 0, 1) + bytes([streams, pairs, *places])


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
