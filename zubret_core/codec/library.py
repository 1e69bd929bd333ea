"""Whatever else the media library decodes, and encodes where a layout names an encoder, by the library's own identifiers.

The payload goes to the decoder in packets: of a fixed length, as most block codecs want it, or with their lengths before them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import chain
from typing import Any, Literal

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, gathered, to_float
from ..source import Source
from .base import Usual, check_range, pieces_of, wrong_parameter
from .encoders import delay_of, encoded
from .framing import Framing, check_framing
from .speakers import samples_of

MOST_CHANNELS = 8
_LAYOUTS = {1: "mono", 2: "stereo", 3: "2.1", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
_FULL_SCALE = {"u1": 128, "i2": 1 << 15, "i4": 1 << 31}


@dataclass(frozen=True)
class Library(Usual):
    """decoder: the library's name for it. extradata: what it wants to know beforehand, as hexadecimal; else what the stream's setup
    holds. packet: bytes given to it at once; 0 takes the format's block size, or all where there is none. bits: of a stored
    sample, where the decoder asks for that. framing: "fixed" for such packets, "counted" with a length of `width` bytes in `order`
    before each, or "table". skip: frames at the beginning that are not heard.

    encoder: the library's name for it, where streams can be replaced; options: (name, value) pairs that it is given; kbits: kbit/s, 0
    for its own.
    """

    decoder: str = "pcm_s16le"
    extradata: str = ""
    packet: int = 0
    bits: int = 0
    framing: str = "fixed"
    width: int = 2
    order: Literal["little", "big"] = "little"
    between: int = 0
    added: int = 0
    skip: int = 0
    encoder: str = ""
    options: tuple[tuple[str, str | int], ...] = ()
    kbits: int = 0

    def __post_init__(self) -> None:
        _check_name("decoder", self.decoder, "r")
        if self.encoder:
            _check_name("encoder", self.encoder, "w")
        if self.framing not in ("fixed", "counted", "table"):
            raise wrong_parameter("framing", self.framing, "choose from fixed, counted, table")
        check_framing(self.framing, self.between, self.added)
        if not 0 <= self.skip <= 1 << 16:
            raise wrong_parameter("skip", self.skip, "it is a number of frames up to 65,536")
        if not 0 <= self.kbits <= 10_000:
            raise wrong_parameter("kbits", self.kbits, "it is a number of kbit/s")
        try:
            bytes.fromhex(self.extradata)
        except ValueError:
            raise wrong_parameter("extradata", self.extradata, "it is a row of hexadecimal byte pairs") from None
        if not (0 <= self.packet <= 1 << 24 and 0 <= self.bits <= 64):
            raise wrong_parameter("packet or bits", (self.packet, self.bits), "they are numbers of bytes and of bits")

    @property
    def label(self) -> str:
        return f"{self.decoder}, by the media library"

    @property
    def wants_setup(self) -> bool:  # type: ignore[override]
        return not self.extradata

    def obstacle(self, format: Format) -> str:
        return "" if self.encoder else f"{self.label} can be read but not written"

    def late(self, format: Format) -> int:
        if not self.encoder:
            return 0
        return max(0, delay_of(self.encoder, self.decoder, format.rate, self.kbits, self._given) - self.skip)

    def block_frames(self, format: Format) -> int:
        return 1

    def stored_size(self, format: Format) -> int | None:
        return None

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        start += self.skip
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
                f"The stream has {run.at + len(run.piece) - self.skip:,} frames, but its bank gives {format.frames:,}.",
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
        if self.extradata or format.setup:
            reader.extradata = bytes.fromhex(self.extradata) or format.setup
        at = 0
        try:
            for data in self._packets(payload, packet):
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

    @property
    def _given(self) -> tuple[tuple[str, str], ...]:
        return tuple((name, str(value)) for name, value in self.options)

    def _framing(self, packet: int = 0) -> Framing:
        return Framing(self.framing, self.width, self.order, packet, self.between, self.added)

    def _packets(self, payload: Source, packet: int) -> Iterator[bytes]:
        if self.framing == "fixed":
            yield from payload.chunks(step=max(1, packet))
            return
        for window in self._framing().windows(payload):
            for start, size in zip(window.starts.tolist(), window.sizes.tolist(), strict=True):
                yield window.data[start : start + size].tobytes()

    def _made(self, pieces: Iterator[NDArray], format: Format) -> Iterator[tuple[bytes, bytes]]:
        return encoded(self.encoder, pieces, format.rate, format.channels, self.kbits, dict(self._given))

    def fitted(self, pcm: Signal, format: Format) -> Format:
        """The format with what the encoder says for decoders, where the stream's record has room for that."""
        if not self.encoder or not format.setup:
            return format
        silence = np.zeros((8192, format.channels), np.float32)
        extra = next((extra for _, extra in self._made(iter([silence]), format)), b"")
        return format.with_(setup=extra)

    def encode(self, pcm: Signal, format: Format) -> bytes | memoryview:
        if not self.encoder:
            raise ZubretError(
                f"{self.label} can be read but not written.", field="codec", next="Choose a stream of another codec."
            )
        behind = np.zeros((max(0, self.skip), format.channels), np.float32)  # so that the end comes out, too
        packets = (packet for packet, _ in self._made(chain(map(to_float, pieces_of(pcm)), [behind]), format))
        size = self.packet or format.block_size
        if self.framing != "fixed":
            return self._framing().framed(packets)
        return gathered(_whole(packets, size) if size else packets)

    def warm(self) -> None:
        pass


def _check_name(word: str, name: str, mode: Literal["r", "w"]) -> None:
    try:
        codec = av.Codec(name, mode)
    except (ValueError, FFmpegError):
        codec = None
    if codec is None or codec.type != "audio":
        raise wrong_parameter(word, name, f"the media library has no audio {word} of this name")


def _whole(packets: Iterator[bytes], size: int) -> Iterator[bytes]:
    """Packets whose lengths are multiples of a size, but for the last."""
    short = b""
    for packet in packets:
        if len(short) % size:
            raise ZubretError(
                f"The encoder gives packets of {len(short):,} bytes, but the stream's have {size:,}.",
                field="packet",
                next="Correct the encoder's options or kbits in the layout, so that its packets have the stream's size.",
            )
        if short:
            yield short
        short = packet
    yield short


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
    if len(frame.layout.channels) != channels:
        raise ZubretError(
            f"The decoder gives {len(frame.layout.channels)} channels, but the bank says {channels}.",
            file=payload.name,
            field="channels",
            next="The layout's decoder or its extradata is not right.",
        )
    data = samples_of(frame)
    if data.dtype == np.int16:
        return data
    scale = _FULL_SCALE.get(data.dtype.str[1:])
    if scale is None:
        return to_float(data.astype(np.float32))
    return ((data.astype(np.float64) - (128 if scale == 128 else 0)) / scale).astype(np.float32)
