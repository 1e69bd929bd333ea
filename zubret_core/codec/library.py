"""Whatever else the media library decodes, named by the library's own identifier. It is only read.

The payload goes to the decoder in packets of a fixed length, as most block codecs want it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, to_float
from ..source import Source
from .base import Usual, check_range, wrong_parameter

MOST_CHANNELS = 8
_LAYOUTS = {1: "mono", 2: "stereo", 3: "2.1", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
_FULL_SCALE = {"u1": 128, "i2": 1 << 15, "i4": 1 << 31}


@dataclass(frozen=True)
class Library(Usual):
    """decoder: the library's name for it. extradata: what it wants to know beforehand, as hexadecimal. packet: bytes
    given to it at once; 0 takes the format's block size, or all where there is none. bits: of a stored sample, where
    the decoder asks for that.
    """

    decoder: str = "pcm_s16le"
    extradata: str = ""
    packet: int = 0
    bits: int = 0

    def __post_init__(self) -> None:
        try:
            codec = av.Codec(self.decoder, "r")
        except (ValueError, FFmpegError):
            codec = None
        if codec is None or codec.type != "audio":
            raise wrong_parameter("decoder", self.decoder, "the media library has no audio decoder of this name")
        try:
            bytes.fromhex(self.extradata)
        except ValueError:
            raise wrong_parameter("extradata", self.extradata, "it is a row of hexadecimal byte pairs") from None
        if not (0 <= self.packet <= 1 << 24 and 0 <= self.bits <= 64):
            raise wrong_parameter("packet or bits", (self.packet, self.bits), "they are numbers of bytes and of bits")

    @property
    def label(self) -> str:
        return f"{self.decoder}, by the media library"

    def obstacle(self, format: Format) -> str:
        return f"{self.label} can be read but not written"

    def block_frames(self, format: Format) -> int:
        return 1

    def stored_size(self, format: Format) -> int | None:
        return None

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        run = payload.memory.pop(Library, None)  # nobody else goes on with it meanwhile
        if run is None or run.key != (self, format) or run.at > start:
            run = _Run((self, format), self._pieces(payload, format))
        parts: list[NDArray] = []
        at, end = start, start + frames
        while at < end and run.reaches(at):
            parts.append(run.piece[at - run.at : end - run.at])
            at += len(parts[-1])
        payload.memory[Library] = run
        out = np.concatenate(parts) if parts else np.zeros((0, format.channels), np.int16)
        if len(out) < frames:
            raise ZubretError(
                f"The stream has {run.at + len(run.piece):,} frames, but its bank gives {format.frames:,}.",
                file=payload.name,
                field="frames",
                next="The bank is damaged, or the layout's packets or extradata are not right.",
            )
        return out

    def _pieces(self, payload: Source, format: Format) -> Iterator[NDArray]:
        """Decoded packets one by one, (frames, channels)."""
        if format.channels > MOST_CHANNELS:
            raise ZubretError(
                f"The media library is not asked for {format.channels} channels.",
                file=payload.name,
                field="channels",
                next=f"It decodes up to {MOST_CHANNELS} here.",
            )
        reader: Any = av.CodecContext.create(self.decoder, "r")
        reader.sample_rate, reader.layout = format.rate, _LAYOUTS[format.channels]
        packet = self.packet or format.block_size or payload.size
        reader.options = {"block_align": str(packet), "bits_per_coded_sample": str(self.bits)}
        if self.extradata:
            reader.extradata = bytes.fromhex(self.extradata)
        at = 0
        try:
            for data in payload.chunks(step=max(1, packet)):
                yield from (_samples(f, format.channels, payload) for f in reader.decode(av.Packet(data)))
                at += len(data)
            yield from (_samples(f, format.channels, payload) for f in reader.decode(None))
        except (FFmpegError, ValueError) as e:
            raise ZubretError(
                f"The media library can't decode this by {self.decoder}: {e}.",
                file=payload.name,
                offset=at,
                next="Check the decoder, its packets and its extradata in the layout.",
            ) from e

    def encode(self, pcm: Signal, format: Format) -> bytes:
        raise ZubretError(
            f"{self.label} can be read but not written.", field="codec", next="Choose a stream of another codec."
        )

    def warm(self) -> None:
        pass


class _Run:
    """A decoder on its way through a payload: whoever asks for what comes next does not begin anew."""

    def __init__(self, key: object, pieces: Iterator[NDArray]):
        self.key, self.at = key, 0
        self.piece: NDArray = np.zeros((0, 1), np.int16)
        self._pieces = pieces

    def reaches(self, frame: int) -> bool:
        """Go on until `piece`, which begins at frame `at`, holds a frame; False where the stream ends before it."""
        while frame >= self.at + len(self.piece):
            piece = next(self._pieces, None)
            if piece is None:
                return False
            self.at, self.piece = self.at + len(self.piece), piece
        return True


def _samples(frame: av.AudioFrame, channels: int, payload: Source) -> NDArray:
    data = frame.to_ndarray()
    if len(frame.layout.channels) != channels:
        raise ZubretError(
            f"The decoder gives {len(frame.layout.channels)} channels, but the bank says {channels}.",
            file=payload.name,
            field="channels",
            next="The layout's decoder or its extradata is not right.",
        )
    data = data.T if frame.format.is_planar else data.reshape(-1, channels)
    if data.dtype == np.int16:
        return data
    scale = _FULL_SCALE.get(data.dtype.str[1:])
    if scale is None:
        return to_float(data.astype(np.float32))
    return ((data.astype(np.float64) - (128 if scale == 128 else 0)) / scale).astype(np.float32)
