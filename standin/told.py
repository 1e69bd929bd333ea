"""The game's radio: Vorbis and Opus packets with a length of two bytes before each, and no pages around them.

Packets come out of Ogg files by a reader of our own; they are decoded one after the other by the media library.
"""

import io

import av
import numpy as np
import soundfile


def packets(ogg):
    """The packets of an Ogg file, headers first."""
    at, out, open_packet = 0, [], b""
    while at < len(ogg):
        count = ogg[at + 26]
        body = at + 27 + count
        for size in ogg[at + 27 : body]:
            open_packet += ogg[body : body + size]
            body += size
            if size < 255:
                out.append(open_packet)
                open_packet = b""
        at = body
    return out


def framed(sounds):
    """Packets as the bank stores them."""
    return b"".join(len(p).to_bytes(2, "little") + p for p in sounds)


def split(payload):
    """The packets of a payload."""
    out, at = [], 0
    while at < len(payload):
        size = int.from_bytes(payload[at : at + 2], "little")
        if at + 2 + size > len(payload):
            raise ValueError(f"packet {len(out)} leaves the payload")
        out.append(payload[at + 2 : at + 2 + size])
        at += 2 + size
    return out


def as_opus(pcm):
    """Opus packets of int16 at 48,000 Hz."""
    out = io.BytesIO()
    with soundfile.SoundFile(out, "w", 48000, pcm.shape[1], "OPUS", format="OGG") as file:
        file.write(pcm)
    return packets(out.getvalue())[2:]


def vorbis(payload, setup, rate, channels, frames):
    """int16 (frames, channels); `setup` is the setup header. Blocks are of 512 and 1024 frames."""
    head = b"\x01vorbis" + bytes(4) + bytes([channels]) + rate.to_bytes(4, "little") + bytes(12) + b"\xa9\x01"
    note = b"\x03vorbis" + bytes(8) + b"\x01"
    laced = b"\x02" + bytes([len(head), len(note)]) + head + note + setup
    return _decode("vorbis", split(payload), laced, channels)[:frames]


def opus(payload, channels, frames):
    """int16 (frames, channels) at 48,000 Hz; 312 frames at the beginning are not heard."""
    head = b"OpusHead\x01" + bytes([channels]) + (312).to_bytes(2, "little") + (48000).to_bytes(4, "little") + bytes(3)
    return _decode("libopus", split(payload), head, channels)[:frames]


def _decode(name, sounds, head, channels):
    reader = av.CodecContext.create(name, "r")
    reader.sample_rate, reader.layout, reader.extradata = 48000, ("mono", "stereo")[channels - 1], head
    parts = []
    try:
        for packet in [*map(av.Packet, sounds), None]:
            parts += [f.to_ndarray() for f in reader.decode(packet)]
    except av.error.FFmpegError as e:
        raise ValueError(str(e)) from e
    if not parts:
        raise ValueError("no packet gives sound")
    parts = [p if p.shape[0] == channels and channels > 1 else p.reshape(-1, channels).T for p in parts]
    pcm = np.concatenate(parts, axis=1).T
    if pcm.dtype != np.int16:
        pcm = np.clip(np.rint(pcm * 32768), -32768, 32767).astype(np.int16)
    return pcm
