"""Decoding any range of Vorbis or Opus packets that stand on pages, by the media library's decoders.

libsndfile is not used for it: seeking in a damaged Ogg file can end the whole process (measured). The position of a page
follows from the granule position of the one before; some pages before it are decoded and forgotten, since packets overlap
(Vorbis I specification, 4.3.8) and Opus needs 80 ms to settle (RFC 7845, 4.6).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from ..base import ZubretError, to_float
from . import opus, vorbis
from .speakers import LAYOUTS, samples_of

LEAD = 2
"""Pages that are decoded before the one in which a range begins."""


class Pages(Protocol):
    """Packets on pages, in order."""

    name: str

    @property
    def ends(self) -> NDArray[np.int64]:
        """The granule position behind each page."""

    def packets(self, page: int) -> list[bytes]:
        """The packets that end on a page."""


def decode_pages(pages: Pages, headers: Sequence[bytes], channels: int, start: int, frames: int) -> NDArray[np.float32]:
    """Frames [start, start + frames) of the sound, (frames, channels); fewer where it ends before."""
    is_opus = headers[0].startswith(opus.HEAD)
    skip = opus.facts_of(headers[0])[1] if is_opus else 0
    has = opus.facts_of(headers[0])[0] if is_opus else vorbis.facts_of(headers[0])[1]
    if has != channels:
        raise ZubretError(
            f"The headers say {has:,} channels, but the bank says {channels:,}.",
            file=pages.name,
            field="setup",
            next="They belong to another bank, or the layout ties the wrong field.",
        )
    first, end = start + skip, start + skip + frames
    ends = pages.ends
    page = int(np.searchsorted(ends, first, "right"))
    reader = _reader(pages.name, headers, is_opus)
    for n in range(max(0, page - LEAD), min(page, len(ends))):
        for packet in pages.packets(n):
            _decoded(reader, packet, channels, pages.name, forgiving=True)
    at = int(ends[page - 1]) if page else 0
    parts: list[NDArray[np.float32]] = []
    for n in range(page, len(ends)):
        for packet in pages.packets(n):
            for part in _decoded(reader, packet, channels, pages.name):
                if at + len(part) > first and at < end:
                    parts.append(part[max(0, first - at) : end - at])
                at += len(part)
        if at >= end:
            break
    return np.concatenate(parts) if parts else np.zeros((0, channels), np.float32)


def _reader(name: str, headers: Sequence[bytes], is_opus: bool) -> Any:
    reader: Any = av.CodecContext.create("libopus" if is_opus else "vorbis", "r")
    if is_opus:
        # Frames that are not heard are counted here, so the decoder is told of none.
        head = headers[0]
        reader.sample_rate, reader.extradata = opus.RATE, head[:10] + bytes(2) + head[12:]
        reader.layout = LAYOUTS.get(head[9], "mono")
    else:
        sizes = b"".join(b"\xff" * (len(h) // 255) + bytes([len(h) % 255]) for h in headers[:2])
        reader.extradata = b"\x02" + sizes + headers[0] + headers[1] + headers[2]
    try:
        reader.open()
    except (FFmpegError, ValueError, MemoryError) as e:
        raise ZubretError(
            f"The headers can't be used: {e}.",
            file=name,
            field="setup",
            next="Check where the layout's codec says that the headers stand; they may belong to another bank.",
        ) from e
    return reader


def _decoded(
    reader: Any, packet: bytes, channels: int, name: str, forgiving: bool = False
) -> list[NDArray[np.float32]]:
    if not packet:
        return []
    try:
        out: list[NDArray[np.float32]] = []
        for frame in reader.decode(av.Packet(packet)):
            data = samples_of(frame)
            out.append(to_float(data))
        return out
    except (FFmpegError, ValueError) as e:
        if forgiving:
            return []
        raise ZubretError(
            f"A packet can't be decoded: {e}.",
            file=name,
            next="The stream is damaged, or its headers belong to another bank: check it in another copy of the game.",
        ) from e
