"""Vorbis and Opus packets that a bank stores without the pages of a container.

Nothing is encoded again on the way out: an Ogg file is laid around the packets (`wrapped`). On the way in, an Ogg file
from libsndfile or packets from the media library's encoder are framed as the bank wants them. Sources: Vorbis I
specification, 4.3.1 and A.2; RFC 7845, 4.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from itertools import chain, islice
from typing import Any, Literal

import av
import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from ..base import Format, Samples, Signal, ZubretError, nameless, to_float
from ..source import BytesSource, OpenFile, Source
from . import framing, ogg, opus, rewrap, trimmed, vorbis
from .base import Writes, check_range, wrong_parameter
from .file import VORBIS_PIECE
from .framing import Framing, Window, check_framing
from .packet_frames import opus_frames, vorbis_frames
from .paged import decode_pages
from .rewrap import OggSource
from .soundfiles import sound_written
from .speakers import LAYOUTS, MOST, as_vorbis
from .trimmed import LEFT_OUT, Trimmed

COUNTED = "counted"
"""The variant of a format whose length nothing says but the packets."""
LACED = b"\x02"
"""The first byte of three headers behind one another with their lengths in front, as other containers keep them."""
QUALITIES = (0.6, 0.5, 0.4, 0.3, 0.7, 0.8, 0.2, 0.1, 0.9, 0.0, 1.0)
"""libsndfile's compression levels in the order in which they are tried, the usual one first."""
LEAD = 480
"""Frames that are decoded beside a range that is brought to another rate."""
PIECE = 1 << 16
"""Frames that are brought to another rate at once."""
OPUS_BITS = 64_000
"""Bits a second for each channel, where the bank's packets have lengths of their own."""


def comment_header(codec: str, texts: Mapping[str, str]) -> bytes:
    """The comment header of "vorbis" or "opus" with these texts."""
    return vorbis.comments(texts, opus.TAGS, b"") if codec == "opus" else vorbis.comments(texts)


@dataclass(frozen=True)
class Packets(Writes):
    """What both kinds share.

    framing, width, order, between, added: see `Framing`; a fixed packet has the format's block size. headers: where the header packets
    stand: in bank.setup ("setup"), before the others ("stream"), or nowhere ("none").
    """

    framing: str = "counted"
    width: int = 2
    order: Literal["little", "big"] = "little"
    headers: str = "setup"
    between: int = 0
    added: int = 0

    def __post_init__(self) -> None:
        if self.framing not in ("counted", "fixed", "table"):
            raise wrong_parameter("framing", self.framing, "it is counted, fixed or table")
        if self.width not in (1, 2, 4):
            raise wrong_parameter("width", self.width, "a length has 1, 2 or 4 bytes")
        check_framing(self.framing, self.between, self.added)
        if self.headers not in ("setup", "stream", "none"):
            raise wrong_parameter("headers", self.headers, "it is setup, stream or none")

    tells = True
    counts = True

    @property
    def wants_setup(self) -> bool:  # type: ignore[override]
        return self.headers == "setup"

    def told(self, payload: Source, format: Format) -> Format:
        """The format, with as many frames as the packets hold where nothing says how many are heard."""
        if not self.asks(format):
            return format
        format = format.with_(rate=format.rate or self._own_rate(payload, format))
        skip, times = self.unheard(payload, format)
        held = sum(int(frames.sum()) for _, frames in self.counted(payload, format))
        return format.with_(frames=max(0, (held - skip) // times), variant=COUNTED)

    def asks(self, format: Format) -> bool:
        return format.frames < 0 or format.variant == COUNTED

    def _own_rate(self, payload: Source, format: Format) -> int:
        """The rate in Hz where the record does not say it."""
        return vorbis.facts_of(self.header_packets(payload, format)[0])[0]

    def block_frames(self, format: Format) -> int:
        return 1

    def stored_size(self, format: Format) -> int | None:
        return None

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        if not frames:
            return np.zeros((0, format.channels), np.float32)
        file, headers = self._played(payload, format)
        pcm = decode_pages(file, headers, format.channels, start, frames)
        if len(pcm) < frames:
            raise ZubretError(
                f"The packets hold {start + len(pcm):,} frames, but the bank gives {format.frames:,}.",
                file=payload.name,
                field="frames",
                next="The stream is cut short, or its headers belong to another bank.",
            )
        return pcm

    def wrapped(self, payload: Source, format: Format, comments: bytes = b"") -> OggSource:
        """The Ogg file of a stream, its packets as they are. `comments` is a comment header that takes the place of the
        stored one.
        """
        return self._wrap(payload, format, self.header_packets(payload, format), comments)

    def _played(self, payload: Source, format: Format) -> tuple[OggSource, list[bytes]]:
        """The pages that are decoded, and the headers; laid out once for a payload that is listened to."""
        found = payload.memory.get(Packets)
        if found is None or found[0] != (self, format):
            headers = self.header_packets(payload, format)
            found = (self, format), (self._wrap(payload, format.with_(frames=1 << 50), headers, b""), headers)
            payload.memory[Packets] = found
        return found[1]

    def _wrap(self, payload: Source, format: Format, headers: list[bytes], comments: bytes) -> OggSource:
        if comments:
            headers = [headers[0], comments, *headers[2:]]
        skipped = len(headers) if self.headers == "stream" else 0
        counter, target = self._counter(payload, format, headers)
        return OggSource(payload, self._framing(format), headers, counter, target, skipped)

    def counted(self, payload: Source, format: Format) -> Iterator[tuple[Window, NDArray[np.int64]]]:
        """The packets of the sound, and by how many frames each goes on, of Opus at 48,000 Hz."""
        headers = self.header_packets(payload, format)
        counter, _ = self._counter(payload, format, headers)
        ahead = len(headers) if self.headers == "stream" else 0
        for window in self._framing(format).windows(payload):
            here = len(window.sizes)
            window, ahead = window.behind(min(here, ahead)), max(0, ahead - here)
            if len(window.sizes):
                yield window, counter(window)

    def unheard(self, payload: Source, format: Format) -> tuple[int, int]:
        """The frames at the beginning that are not heard, as `counted` counts them, and how many of those one of the bank's is."""
        return 0, 1

    def _framing(self, format: Format) -> Framing:
        return self._framed(format.block_size)

    def _framed(self, fixed: int = 0) -> Framing:
        return Framing(self.framing, self.width, self.order, fixed, self.between, self.added)

    @property
    def lead(self) -> int:
        """Bytes in front of each packet."""
        return self._framed().lead

    def header_packets(self, payload: Source, format: Format) -> list[bytes]:
        """The header packets, as an Ogg file begins with them."""
        if self.headers == "stream":
            return self._framing(format).first(payload, self._header_count)
        setup = format.setup if self.headers == "setup" else b""
        if self.headers == "setup" and not setup:
            raise ZubretError(
                "The bank has no setup for this stream.",
                file=payload.name,
                field="setup",
                next='Tie the bytes that hold the headers to "bank.setup", or say "headers: stream" in the codec.',
            )
        return self._headers(payload, format, setup)

    def _split(self, setup: bytes, name: str) -> list[bytes]:
        """Header packets that stand together: laced as other containers keep them, or framed as the bank's packets."""
        if not setup.startswith(LACED):
            return Framing("counted", self.width, self.order, 0).first(BytesSource(setup, name), self._header_count)
        sizes, at = [], 1
        for _ in range(2):
            size = 0
            while at < len(setup) and setup[at] == 255:
                size, at = size + 255, at + 1
            size, at = size + (setup[at] if at < len(setup) else 0), at + 1
            sizes.append(size)
        return [setup[at : at + sizes[0]], setup[at + sizes[0] : at + sum(sizes)], setup[at + sum(sizes) :]]

    @property
    @abstractmethod
    def _header_count(self) -> int:
        """Header packets that an Ogg file of this kind begins with."""

    @abstractmethod
    def _headers(self, payload: Source, format: Format, setup: bytes) -> list[bytes]:
        """The header packets by what the bank keeps, or by the format alone."""

    @abstractmethod
    def _counter(self, payload: Source, format: Format, headers: list[bytes]) -> tuple[rewrap.FramesOf, int]:
        """What counts a packet's frames, and the granule position of the last page."""


@dataclass(frozen=True)
class VorbisPackets(Packets):
    """blocks: frames of a short and of a long block, where the bank keeps no identification header; trimmed: what of each packet is not
    stored, since it follows from elsewhere: its type, the windows of its neighbours."""

    blocks: tuple[int, int] = (256, 2048)
    trimmed: tuple[str, ...] = ()
    label = "Vorbis packets"

    def __post_init__(self) -> None:
        super().__post_init__()
        sizes = [1 << n for n in range(6, 14)]
        if len(self.blocks) != 2 or any(b not in sizes for b in self.blocks) or self.blocks[0] > self.blocks[1]:
            raise wrong_parameter("blocks", self.blocks, "they are two powers of two from 64 to 8192, the short first")
        if self.headers == "none":
            raise wrong_parameter("headers", "none", "Vorbis can't be decoded without its setup header")
        if not set(self.trimmed) <= set(LEFT_OUT) or len(set(self.trimmed)) != len(self.trimmed):
            raise wrong_parameter("trimmed", self.trimmed, f"it lists any of {', '.join(LEFT_OUT)}")
        if self.trimmed and self.headers != "setup":
            raise wrong_parameter("trimmed", self.trimmed, "what is left out follows from headers in bank.setup")

    def _framing(self, format: Format) -> Framing:
        if not self.trimmed:
            return super()._framing(format)
        headers = self.header_packets(BytesSource(b"", "setup"), format)
        modes = vorbis.modes_of(headers[0], headers[2])
        how = self.framing, self.width, self.order, format.block_size, self.between, self.added
        return Trimmed(*how, modes, self.trimmed)

    @property
    def _header_count(self) -> int:
        return 3

    def _headers(self, payload: Source, format: Format, setup: bytes) -> list[bytes]:
        if setup.startswith(vorbis.SETUP):
            return [vorbis.identification(format.rate, format.channels, self.blocks), vorbis.comments(), setup]
        return self._split(setup, payload.name)

    def _counter(self, payload: Source, format: Format, headers: list[bytes]) -> tuple[rewrap.FramesOf, int]:
        modes = vorbis.modes_of(headers[0], headers[2])
        flags = np.array(modes.flags, np.uint8)
        before, number = 0, 0

        def frames_of(window: Window) -> NDArray[np.int64]:
            nonlocal before, number
            out = np.empty(len(window.sizes), np.int64)
            mask = (1 << modes.bits) - 1
            ended = vorbis_frames(
                window.data, window.starts, window.sizes, modes.short, modes.long, flags, mask, before, out
            )
            if ended < 0:
                raise ZubretError(
                    f"Packet {number - 1 - ended:,} has a mode that the setup header does not have.",
                    file=payload.name,
                    field="setup",
                    next="The setup header belongs to another bank, or the packets are framed in another way.",
                )
            before, number = ended, number + len(window.sizes)
            return out

        return frames_of, format.frames

    def obstacle(self, format: Format) -> str:
        if self.headers == "stream":
            return ""
        try:
            if self._level(format) is None:
                return (
                    "the streams of this bank share one setup header, and no quality of the encoder gives that very "
                    f"one at {format.rate:,} Hz: a replacement would be noise"
                )
        except ZubretError as e:
            return f"{e.what} {e.next}"
        return ""

    def encode(self, pcm: Signal, format: Format, level: float | None = None) -> memoryview:
        """level: of compression, 0 to 1, where each stream has headers of its own."""
        if self.headers != "stream":
            level = self._level(format)
        elif level is None:
            level = QUALITIES[0]
        if level is None:
            raise ZubretError(
                "No quality of the encoder gives the setup header that the bank shares.",
                field="setup",
                next="Choose a stream of another codec, or a file with the original's rate and channels.",
            )
        return self.from_ogg(_as_vorbis(pcm, format.rate, format.channels, level), format)

    def from_ogg(self, file: Source, format: Format) -> memoryview:
        """The packets of an Ogg Vorbis file as a payload; its headers must be the shared ones where they are shared."""
        packets = (packet for packet, _ in ogg.packets_in(file))
        own = list(islice(packets, 3))
        if len(own) < 3 or not own[0].startswith(vorbis.IDENTIFICATION):
            raise ZubretError("This is no Ogg Vorbis file.", file=file.name, next="Choose another file.")
        if self.headers == "stream":
            return self._framing(format).framed(chain(own, packets))
        shared = self._headers(file, format, format.setup)
        same = own[2] == shared[2] and vorbis.facts_of(own[0]) == vorbis.facts_of(shared[0])
        if not same:
            raise ZubretError(
                "The file's setup header is not the one that the bank's streams share.",
                file=file.name,
                field="setup",
                next="Encode it with the quality, rate and channels of the original.",
            )
        return self._framing(format).framed(packets)

    def _level(self, format: Format) -> float | None:
        """The encoder's level that gives the shared headers."""
        shared = self._headers(BytesSource(b"", "setup"), format, format.setup)
        if len(shared) < 3:
            return None
        facts = vorbis.facts_of(shared[0])
        if facts[:2] != (format.rate, format.channels):
            return None
        for level in QUALITIES:
            mine = _encoder_headers(format.rate, format.channels, level)
            if mine is not None and mine[1] == shared[2] and vorbis.facts_of(mine[0]) == facts:
                return level
        return None

    def warm(self) -> None:
        framing.warm()
        trimmed.warm()
        ogg.warm()
        rewrap.warm()
        one = np.zeros(1, np.int64)
        for data in (np.frombuffer(b"\0", np.uint8), np.zeros(1, np.uint8)):  # read, and encoded
            vorbis_frames(data, one, one, 256, 2048, np.zeros(1, np.uint8), 1, 0, one.copy())


@lru_cache(maxsize=256)
def _encoder_headers(rate: int, channels: int, level: float) -> tuple[bytes, bytes] | None:
    """Identification and setup header that the encoder gives at a level; None where it can't."""
    try:
        packets, _ = ogg.packets_of(_as_vorbis(np.zeros((1, channels), np.float32), rate, channels, level))
    except ZubretError:
        return None
    return (packets[0], packets[2]) if len(packets) >= 3 else None


def _as_vorbis(pcm: Signal, rate: int, channels: int, level: float) -> Source:
    out = nameless()
    try:
        with sound_written(out, rate, channels, "OGG/VORBIS", compression_level=level) as file:
            for at in range(0, len(pcm), VORBIS_PIECE):
                file.write(np.ascontiguousarray(as_vorbis(to_float(pcm[at : at + VORBIS_PIECE]))))
    except (soundfile.LibsndfileError, ValueError) as e:
        raise ZubretError(
            f"Vorbis can't be written at {rate:,} Hz with {channels} channels.",
            field="rate",
            next="Choose a stream of another format.",
        ) from e
    return OpenFile(out, "replacement")


@dataclass(frozen=True)
class OpusPackets(Packets):
    """skip: frames at the beginning that are not heard (pre-skip), where no identification header says it."""

    headers: str = "none"
    skip: int = 312
    label = "Opus packets"

    def __post_init__(self) -> None:
        super().__post_init__()
        if not 0 <= self.skip < 1 << 16:
            raise wrong_parameter("skip", self.skip, "it is a number of frames below 65,536")

    @property
    def _header_count(self) -> int:
        return 2

    def _headers(self, payload: Source, format: Format, setup: bytes) -> list[bytes]:
        if not setup:
            return [opus.identification(format.channels, self.skip), vorbis.comments({}, opus.TAGS, b"")]
        return (
            [setup, vorbis.comments({}, opus.TAGS, b"")]
            if setup.startswith(opus.HEAD)
            else self._split(setup, payload.name)
        )

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        """At the bank's own rate, which may be any of those that the codec takes in."""
        if format.rate == opus.RATE:
            return super().decode(payload, format, start, frames)
        times = self._times(format, payload.name)
        check_range(payload, format, start, frames)
        lead = min(start, LEAD)  # so that the filter meets what stands before and behind
        behind = min(LEAD, format.frames - start - frames)
        whole = format.with_(rate=opus.RATE, frames=format.frames * times)
        pcm = super().decode(payload, whole, (start - lead) * times, (lead + frames + behind) * times)
        out: NDArray = soxr.resample(to_float(pcm), opus.RATE, format.rate)
        return out[lead : lead + frames]

    def wrapped(self, payload: Source, format: Format, comments: bytes = b"") -> OggSource:
        times = self._times(format, payload.name)
        return super().wrapped(payload, format.with_(rate=opus.RATE, frames=format.frames * times), comments)

    def _own_rate(self, payload: Source, format: Format) -> int:
        return opus.RATE

    def unheard(self, payload: Source, format: Format) -> tuple[int, int]:
        skip = opus.facts_of(self.header_packets(payload, format)[0])[1]
        return skip, self._times(format, payload.name)

    @staticmethod
    def _times(format: Format, name: str) -> int:
        """How many frames at 48,000 Hz one of the bank's is."""
        if format.rate not in opus.RATES:
            raise ZubretError(
                f"Opus has no rate of {format.rate:,} Hz.",
                file=name,
                field="rate",
                next=f"Correct the rate in the layout: it is one of {', '.join(f'{r:,}' for r in opus.RATES)} Hz.",
            )
        return opus.RATE // format.rate

    def _counter(self, payload: Source, format: Format, headers: list[bytes]) -> tuple[rewrap.FramesOf, int]:
        _, skip = opus.facts_of(headers[0])
        table = np.array(opus.FRAME_SIZES, np.int64)

        def frames_of(window: Window) -> NDArray[np.int64]:
            out = np.empty(len(window.sizes), np.int64)
            opus_frames(window.data, window.starts, window.sizes, table, out)
            return out

        return frames_of, skip + format.frames

    def obstacle(self, format: Format) -> str:
        if format.rate not in opus.RATES:
            return f"Opus has no rate of {format.rate:,} Hz: correct it in the layout"
        if format.channels > MOST:
            return f"Opus with more than {MOST} channels can't be written"
        if self.headers == "setup" and opus.facts_of(self._headers(BytesSource(b""), format, format.setup)[0])[0] != (
            format.channels
        ):
            return "the identification header that the bank shares has another number of channels"
        return ""

    def encode(self, pcm: Signal, format: Format, bit_rate: int = 0) -> memoryview:
        """bit_rate: bits a second of all channels, where packets have lengths of their own; 0: as usual."""
        skip = self.skip
        if format.rate != opus.RATE:
            pcm = _faster(pcm, format.channels, self._times(format, "replacement"))
        if self.headers == "setup":
            skip = opus.facts_of(self._headers(BytesSource(b""), format, format.setup)[0])[1]
        packets: Iterable[bytes] = _opus_packets(
            pcm, format.channels, skip, format.block_size * (self.framing == "fixed"), bit_rate
        )
        if self.headers == "stream":
            packets = chain([opus.identification(format.channels, skip), vorbis.comments({}, opus.TAGS, b"")], packets)
        return self._framing(format).framed(packets)

    def warm(self) -> None:
        one = np.zeros(1, np.int64)
        opus_frames(np.frombuffer(b"\0", np.uint8), one, one, np.array(opus.FRAME_SIZES, np.int64), one.copy())


def _faster(pcm: Signal, channels: int, times: int) -> Samples:
    """Samples at a rate of so many times as much, made while they are read."""
    count = len(pcm) * times

    def pieces() -> Iterator[NDArray]:
        flow = soxr.ResampleStream(1, times, channels, dtype="float32")
        left = count
        for at in range(0, len(pcm), PIECE):
            last = at + PIECE >= len(pcm)
            out = flow.resample_chunk(np.ascontiguousarray(to_float(pcm[at : at + PIECE])), last=last)[:left]
            left -= len(out)
            yield out.reshape(-1, channels)
        yield np.zeros((left, channels), np.float32)

    return Samples(count, channels, pieces)


def _opus_packets(pcm: Signal, channels: int, skip: int, size: int, bit_rate: int = 0) -> Iterator[bytes]:
    """Packets of 20 ms; `size` bytes each where that is not 0, else of about `bit_rate` bits a second. `skip` frames come before the sound."""
    writer: Any = av.CodecContext.create("libopus", "w")
    writer.sample_rate, writer.layout, writer.format = opus.RATE, LAYOUTS[channels], "flt"
    writer.bit_rate = size * 8 * 50 if size else bit_rate or OPUS_BITS * channels
    writer.options = {"vbr": "off" if size else "on", "frame_duration": "20", "application": "audio"}
    if channels > 2:
        writer.options = {**writer.options, "mapping_family": "1"}
    try:
        writer.open()
        delay = opus.facts_of(bytes(writer.extradata))[1]
        # The encoder's own delay is part of what is skipped; where the bank skips more, silence makes up for it.
        # Where it skips less, as many frames of the sound's beginning are lost, so that the rest keeps its time.
        lead = skip - delay
        for at in range(0, -(-max(delay, skip + len(pcm)) // 960) * 960, 960):
            samples = np.zeros((960, channels), np.float32)
            piece = to_float(pcm[max(0, at - lead) : max(0, at + 960 - lead)])
            samples[max(0, lead - at) :][: len(piece)] = piece
            frame = av.AudioFrame.from_ndarray(samples.reshape(1, -1), "flt", writer.layout.name)
            frame.sample_rate, frame.pts = opus.RATE, at
            yield from map(bytes, writer.encode(frame))
        yield from map(bytes, writer.encode(None))
    except av.error.FFmpegError as e:
        raise ZubretError(
            f"Opus can't be written with packets of {size} bytes: {e}." if size else f"Opus can't be written: {e}.",
            field="block_size",
            next="Choose a stream of another format.",
        ) from e
