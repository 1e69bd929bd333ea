"""MPEG audio and AAC in ADTS, frame by frame, as streams without a container. `frames.py` walks them; the media library decodes and
encodes their frames."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room, to_float
from ..source import Source
from .base import Usual, check_range, pieces_of, wrong_parameter
from .encoders import delay_of, encoded
from .frames import ADTS, ADTS_RATES, DECODER_DELAY, MPEG, Walk, chain, tag_for, walk
from .speakers import LAYOUTS, samples_of

LEAD = 12
"""Frames that are decoded before the one in which a range begins: layer 3 borrows up to 511 bytes from earlier ones (ISO/IEC
11172-3, 2.4.2.7), and all overlap."""
_DECODERS = {1: "mp1float", 2: "mp2float", 3: "mp3float", 4: "aac"}
_ENCODERS = {2: "mp2", 3: "libmp3lame", 4: "aac"}


@dataclass(frozen=True)
class Framed(Usual):
    """align: what each frame begins at a multiple of, with zeros before it; 1 for frames without gaps, 0 where any number of zeros
    may stand between them. turns: so many streams whose frames stand in turns, each with its share of the channels.

    A format's variant is "layer kbit/s", and "tag" where a first frame without sound says delay and padding.
    """

    align: int = 1
    turns: int = 1
    label: str = "MPEG audio"
    tells = True

    def __post_init__(self) -> None:
        if not 0 <= self.align <= 1 << 16:
            raise wrong_parameter("align", self.align, "it is a number of bytes, 0 for any number of zeros")
        if not 1 <= self.turns <= 8:
            raise wrong_parameter("turns", self.turns, "it is a number of streams from 1 to 8")

    @property
    def _kind(self) -> int:
        return ADTS if self.label.startswith("AAC") else MPEG

    def chain(self, source: Source) -> tuple[int, int] | None:
        """Where a chain of such frames begins and ends in bytes that nobody has described."""
        return chain(source, self._kind, self.align)

    def walked(self, payload: Source) -> Walk:
        """The frames of a payload; it is walked once."""
        key = (Framed, self.align, self._kind)
        if key not in payload.memory:
            payload.memory[key] = walk(payload, self._kind, self.align)
        return payload.memory[key]

    def told(self, payload: Source, format: Format) -> Format:
        """The format with what the frames themselves say: rate, channels and length."""
        found = self.walked(payload)
        heard = len(found.at) // self.turns * found.samples - (found.skip or 0) - (found.cut or 0)
        variant = f"{found.layer} {found.kbits}{' tag' if found.tag else ''}"
        channels = found.channels * self.turns
        return format.with_(rate=found.rate, channels=channels, frames=max(0, heard), variant=variant)

    def obstacle(self, format: Format) -> str:
        layer = _words(format)[0]
        if layer not in _ENCODERS:
            return f"{self.label} of layer {layer} can be read but not written"
        if self.turns > 1 and _words(format)[2]:
            return f"{self.label} in turns with a first frame without sound can be read but not written"
        return ""

    def block_frames(self, format: Format) -> int:
        return 1

    def stored_size(self, format: Format) -> int | None:
        return None

    def late(self, format: Format) -> int:
        """Frames by which a replacement is heard late: its encoder's delay, where nothing in the stream tells of it."""
        layer, kbits, tag = _words(format)
        return 0 if tag or layer not in _ENCODERS else delay_of(_ENCODERS[layer], _DECODERS[layer], format.rate, kbits)

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        found = self.walked(payload)
        each, first = found.channels, start + (found.skip or 0)
        parts = [self._turn(payload, found, n, first, frames) for n in range(self.turns)]
        out = parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)
        if len(out) < frames:
            raise ZubretError(
                f"The stream ends {frames - len(out):,} frames before its length.",
                file=payload.name,
                next="It is damaged: check it in another copy of the game.",
            )
        return out[:, : each * self.turns]

    def _turn(self, payload: Source, found: Walk, turn: int, start: int, frames: int) -> NDArray[np.float32]:
        """Samples [start, start + frames) of one of the streams in turns."""
        at, length = found.at[turn :: self.turns], found.length[turn :: self.turns]
        begin = max(0, start // found.samples - LEAD)
        reader = _reader(found)
        parts, place = [], begin * found.samples
        for n in range(begin, len(at)):
            if place >= start + frames:
                break
            for part in _decoded(reader, payload, int(at[n]), int(length[n]), found.channels, place < start):
                parts.append(part[max(0, start - place) : max(0, start + frames - place)])
                place += len(part)
            place = (n + 1) * found.samples
        return np.concatenate(parts)[:frames] if parts else np.zeros((0, found.channels), np.float32)

    def encode(self, pcm: Signal, format: Format) -> memoryview:
        layer, kbits, tag = _words(format)
        channels = format.channels // self.turns
        streams = []
        for turn in range(self.turns):
            part = slice(turn * channels, (turn + 1) * channels)
            pieces = (to_float(piece[:, part]) for piece in pieces_of(pcm))
            streams.append(list(self._frames(pieces, format.rate, channels, layer, kbits)))
        if tag:
            delay = delay_of(_ENCODERS[layer], _DECODERS[layer], format.rate, kbits) - DECODER_DELAY
            samples = 576 if format.rate < 32_000 else 1152
            padding = len(streams[0]) * samples - len(pcm) - delay
            streams[0].insert(0, tag_for(streams[0][0], len(streams[0]), delay, padding))
        frames = [frame for row in zip(*streams, strict=True) for frame in row]
        return self._laid(frames)

    def _laid(self, frames: list[bytes]) -> memoryview:
        step = max(1, self.align)
        size = sum(len(f) + -len(f) % step for f in frames)
        out, at = room(size, np.uint8), 0
        for frame in frames:
            out[at : at + len(frame)] = np.frombuffer(frame, np.uint8)
            out[at + len(frame) : at + len(frame) + -len(frame) % step] = 0
            at += len(frame) + -len(frame) % step
        return out.data

    def _frames(
        self, pieces: Iterator[NDArray[np.float32]], rate: int, channels: int, layer: int, kbits: int
    ) -> Iterator[bytes]:
        """The encoder's frames for some samples."""
        for packet, extra in encoded(_ENCODERS[layer], pieces, rate, channels, kbits):
            yield packet if self._kind == MPEG else _adts(packet, extra, rate, channels)

    def warm(self) -> None:
        pass


def _words(format: Format) -> tuple[int, int, bool]:
    """Layer, kbit/s and whether there is a first frame without sound, of a format's variant."""
    words = format.variant.split()
    if len(words) < 2:
        return 3, 128, False
    return int(words[0]), int(words[1]), len(words) > 2


def _reader(found: Walk) -> Any:
    reader: Any = av.CodecContext.create(_DECODERS[found.layer], "r")
    reader.sample_rate, reader.layout = found.rate, LAYOUTS[found.channels]
    return reader


def _decoded(reader: Any, payload: Source, at: int, length: int, channels: int, forgiving: bool) -> list[NDArray]:
    try:
        out = []
        for frame in reader.decode(av.Packet(payload.read(at, length))):
            data = samples_of(frame)
            out.append(np.repeat(data, channels, axis=1) if data.shape[1] == 1 < channels else data[:, :channels])
        return out
    except (FFmpegError, ValueError) as e:
        if forgiving:
            return []
        raise ZubretError(
            f"A frame can't be decoded: {e}.",
            file=payload.name,
            offset=at,
            next="The stream is damaged: check it in another copy of the game.",
        ) from e


def _adts(packet: bytes, extra: bytes, rate: int, channels: int) -> bytes:
    """A frame of AAC behind its header (ISO/IEC 13818-7, 6.2); extra: the encoder's AudioSpecificConfig (ISO/IEC 14496-3,
    1.6.2.1), whose first five bits are the object type."""
    profile = (extra[0] >> 3) - 1 if extra else 1
    length, index = len(packet) + 7, ADTS_RATES.index(rate)
    head = 0xFFF1 << 40 | profile << 38 | index << 34 | channels << 30 | length << 13 | 0x7FF << 2
    return head.to_bytes(7, "big") + packet
