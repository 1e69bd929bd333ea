"""The media library's encoders: samples to packets, and by how much what they make is heard late."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any

import av
import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from ..base import ZubretError
from .speakers import LAYOUTS, MOST

_PROBE = 1 << 14
"""Samples of noise by which an encoder's delay is measured."""


def encoded(
    name: str,
    pieces: Iterator[NDArray[np.float32]],
    rate: int,
    channels: int,
    kbits: int = 0,
    options: Mapping[str, str] | None = None,
) -> Iterator[tuple[bytes, bytes]]:
    """(packet, what the encoder gives for decoders) of samples, (frames, channels); kbits: kbit/s, 0 for the encoder's own."""
    writer: Any = av.CodecContext.create(name, "w")
    kinds = [kind.name for kind in av.Codec(name, "w").audio_formats or ()]
    kind = next((k for k in ("fltp", "flt", "s16p", "s16") if k in kinds), kinds[0] if kinds else "s16")
    writer.sample_rate, writer.layout, writer.format = rate, LAYOUTS.get(channels, "mono"), kind
    writer.options = dict(options or {})
    if kbits:
        writer.bit_rate = 1000 * kbits
    try:
        writer.open()
        extra, at = bytes(writer.extradata or b""), 0
        layout = LAYOUTS.get(channels, "mono")
        flat = kind.removesuffix("p") if channels >= MOST else kind  # of eight planes none can be made here
        apart = av.AudioResampler(format=kind, layout=layout, rate=rate) if flat != kind else None
        for block in _blocks(pieces, writer.frame_size or 1152):
            frame: Any = av.AudioFrame.from_ndarray(_as(block, flat), format=flat, layout=layout)
            frame.sample_rate, frame.pts, at = rate, at, at + len(block)
            for ready in apart.resample(frame) if apart else [frame]:
                yield from ((bytes(packet), extra) for packet in writer.encode(ready))
        yield from ((bytes(packet), extra) for packet in writer.encode(None))
    except (FFmpegError, ValueError) as e:
        raise ZubretError(
            f"The media library can't encode {channels} channels at {rate:,} Hz by {name}: {e}.",
            field="codec",
            next="Choose a stream of another format, or correct the layout's encoder and its options.",
        ) from e


def _blocks(pieces: Iterator[NDArray[np.float32]], size: int) -> Iterator[NDArray[np.float32]]:
    """Samples in blocks of one size; the last may be shorter."""
    held: list[NDArray[np.float32]] = []
    count = 0
    for piece in pieces:
        held.append(piece)
        count += len(piece)
        if count >= size:
            whole = np.concatenate(held)
            for at in range(0, count - count % size, size):
                yield whole[at : at + size]
            held, count = [whole[count - count % size :]], count % size
    if count:
        yield np.concatenate(held)


def _as(block: NDArray[np.float32], kind: str) -> NDArray:
    """Samples as an encoder wants them."""
    planes = np.ascontiguousarray(block.T) if kind.endswith("p") else np.ascontiguousarray(block).reshape(1, -1)
    if kind.startswith("flt"):
        return planes
    if kind.startswith("s32"):
        return np.clip(np.rint(planes.astype(np.float64) * 2**31), -(2**31), 2**31 - 1).astype(np.int32)
    return np.clip(np.rint(planes * 32768), -32768, 32767).astype(np.int16)


@lru_cache(maxsize=64)
def delay_of(encoder: str, decoder: str, rate: int, kbits: int = 0, options: tuple[tuple[str, str], ...] = ()) -> int:
    """Samples by which what an encoder makes is heard late: noise is encoded, decoded, and looked for."""
    chance = np.random.default_rng(1)
    smooth = np.convolve(chance.standard_normal(_PROBE) * 0.1, np.ones(8) / 8, "same")  # what the codec keeps of it
    noise = smooth.astype(np.float32)[:, None]
    packets = list(encoded(encoder, iter([noise]), rate, 1, kbits, dict(options)))
    reader: Any = av.CodecContext.create(decoder, "r")
    reader.sample_rate, reader.layout = rate, "mono"
    if packets and packets[0][1]:
        reader.extradata = packets[0][1]
    heard = [frame.to_ndarray().reshape(-1) for packet, _ in packets for frame in reader.decode(av.Packet(packet))]
    sound = np.concatenate(heard).astype(np.float64) if heard else np.zeros(1)
    size = 1 << (len(sound) + _PROBE).bit_length()
    like = np.fft.irfft(np.fft.rfft(sound, size) * np.conj(np.fft.rfft(noise[:, 0], size)), size)
    return int(np.argmax(like[: _PROBE // 2]))
