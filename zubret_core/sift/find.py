"""Finding sounds in bytes that nobody has described, from the first byte to the last, in little memory.

What is found is passed over as a whole, so what stands inside a sound (the MPEG frames of a WAV file) is not told a second time.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..audio.files import file_format
from ..base import Format, Progress, ZubretError, silent
from ..base.format import frozen
from ..codec import Framed, codec_named
from ..codec.frames import Walk, possible
from ..source import SliceSource, Source
from .kinds import VALID
from .marks import Window

WINDOW = 1 << 19
"""Bytes that are looked at together: what was read is still near the processor then."""
SEEN_AHEAD = 1 << 14
"""Bytes behind a window that are at hand with it, for eight frames of MPEG audio of 1,729 bytes at most."""
FEWEST = 8
"""Frames of MPEG audio or AAC at least, where no tag stands in front."""

SHORT = 100
"""Frames below which a chain of layers 1, 2 or AAC must also look like coded sound, at PLAIN bits a byte."""
PLAIN = 5.0


@dataclass(frozen=True)
class Hit:
    """A sound at [at, at + length). title: what it is; ending: that a file of it usually has; reason: what was found right. format: how
    it is heard, None where Zubret can't; of frames the payload is the hit itself, all others are audio files."""

    at: int
    length: int
    title: str
    ending: str
    reason: str
    format: Format | None

    def open(self, source: Source) -> Source:
        """Its bytes."""
        return SliceSource(source, self.at, self.length)


def sounds_in(source: Source, progress: Progress = silent) -> Iterator[Hit]:
    """All sounds in a source, in order. Memory does not grow with it."""
    at, behind, what = 0, 0, f"looking through {source.name}"  # behind: up to where something was found
    window = Window(source, WINDOW + SEEN_AHEAD)
    while at < source.size:
        window.move(at)
        end, place = window.length if at + window.length == source.size else WINDOW, max(0, behind - at)
        while place < end:
            found, place = window.candidates(place, end)
            for where, kind in found:
                start = at + where
                if start < behind or start < 0:
                    continue
                hit = _hit(source, start, kind, behind)
                if hit is not None:
                    yield hit
                    behind = hit.at + hit.length
            place = max(place, behind - at)
        at = max(at + end, behind)
        progress(min(at, source.size), source.size, what)


def _hit(source: Source, at: int, kind: str, behind: int) -> Hit | None:
    """What begins at a place, if it is what its mark says. behind: up to where something else stands."""
    if kind not in VALID:
        return _framed(source, at, kind, behind)
    valid = VALID[kind](source, at)
    if valid is None:
        return None
    format = _format(SliceSource(source, at, valid.length)) if valid.file else None
    reason = _REASONS[kind].format(n=valid.pieces) + ("" if valid.ends else ", but the last one is missing")
    return Hit(at, valid.length, valid.title, valid.ending, reason, format)


_REASONS = {
    "riff": "its {n} chunks add up", "w64": "its {n} chunks add up", "form": "its {n} chunks add up", "caf": "{n} chunks, each known",
    "au": "every number of its head is possible", "ogg": "the checksums of its {n:,} pages are right",
    "flac": "the checksums of its {n:,} frames are right", "midi": "its {n} tracks end as tracks do",
    "mod": "its 31 samples and all patterns are there", "xm": "its patterns and {n} instruments are all there",
    "s3m": "its patterns and {n} instruments are all there", "it": "its patterns and {n} samples are all there",
}  # fmt: skip


def _format(payload: Source) -> Format | None:
    try:
        found = file_format(payload)
    except ZubretError:
        return None
    return found if found and found.frames else None


def _framed(source: Source, at: int, kind: str, behind: int) -> Hit | None:
    """A chain of frames, with the tags before and behind it."""
    codec = codec_named(kind, ())
    assert isinstance(codec, Framed)
    rest = SliceSource(source, at, source.size - at)
    found = codec.chain(rest)
    if found is None or found[0]:
        return None
    payload = SliceSource(rest, 0, found[1])
    walked = codec.walked(payload)
    if len(walked.at) < FEWEST or not _decodable(payload, walked):
        return None
    parameters: tuple[tuple[str, Any], ...] = frozen({})
    format = codec.told(payload, Format(kind, 1, 1, -1, parameters=parameters))
    return Hit(at, payload.size, format_label(format), {"mpeg": ".mp3", "adts": ".aac"}[kind],
               f"{len(walked.at):,} frames follow one another", format)  # fmt: skip


def _decodable(payload: Source, walked: Walk) -> bool:
    """Whether the first frames can be what their headers say. Tables of records step in the same way, but hold few different bytes."""
    size = int(walked.at[FEWEST - 1] + walked.length[FEWEST - 1])
    data = np.frombuffer(payload.read(0, size), np.uint8)
    share = np.bincount(data, minlength=256) / size
    bits = -(share[share > 0] * np.log2(share[share > 0])).sum()
    if walked.layer != 3 and len(walked.at) < SHORT and bits < PLAIN:
        return False
    return all(
        possible(data, int(at), int(length), walked.layer)
        for at, length in zip(walked.at[:FEWEST], walked.length, strict=False)
    )


def format_label(format: Format) -> str:
    """What people call frames of a kind."""
    if format.codec == "adts":
        return "AAC"
    layer = format.variant.split(" ")[0]
    return f"MPEG layer {layer}"
