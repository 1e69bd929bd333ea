"""Reeds: a bank of Vorbis packets without what the game knows anyway.

REED, then little-endian: count (2 bytes), how many modes (1), which of them are long, a bit each (1), exponents of the short and the
long block (1 each). A record has 24 bytes: id, channels (2 each), rate, place, stored bytes, frames (4 each), a number of the reed
maker's (4). The setup header follows, its length first (4), then the sounds at multiples of 8. A packet has its length before it in two
bytes, high one first. Of its bits the first one, which is always 0, is not there, nor, where its mode is long, the two that say
whether the packets around it are long, too.
"""

import io
import struct

import numpy as np
import soundfile

from .told import _decode, packets

HEAD, REED = struct.Struct("<4sHBBBB"), struct.Struct("<HHIIIII")


def _modes(setup):
    """Which modes are long, by the end of a setup header: a closing 1, and 41 bits a mode, of which 32 are 0."""
    bits, width = int.from_bytes(setup, "little"), 8 * len(setup)
    last, found = bits.bit_length() - 1, []
    for count in range(1, 65):
        start = last - 41 * count
        modes = [bits >> start + 41 * n & (1 << 41) - 1 for n in range(count)]
        if start < 6 or width < last:
            break
        if all(not m >> 1 & 0xFFFFFFFF for m in modes) and bits >> start - 6 & 63 == count - 1:
            found = [bool(m & 1) for m in modes]  # what ends in few modes may go on to more
    if not found:
        raise ValueError("the setup header tells no modes")
    return found


def _cut(sounds, longs):
    """Packets without the bits that follow from elsewhere."""
    wide = (len(longs) - 1).bit_length()
    out = []
    for packet in sounds:
        bits = int.from_bytes(packet, "little") >> 1
        mode = bits & (1 << wide) - 1
        rest = bits >> wide + 2 * longs[mode]
        out.append((mode | rest << wide).to_bytes(len(packet), "little"))
    return out


def _whole(sounds, longs):
    """Packets with all of their bits."""
    wide = (len(longs) - 1).bit_length()
    modes = [int.from_bytes(p, "little") & (1 << wide) - 1 for p in sounds]
    out = []
    for n, packet in enumerate(sounds):
        rest, head, width = int.from_bytes(packet, "little") >> wide, modes[n] << 1, wide + 1
        if longs[modes[n]]:
            before, behind = modes[max(0, n - 1)], modes[min(len(modes) - 1, n + 1)]
            head |= longs[before] << width | longs[behind] << width + 1
            width += 2
        out.append((head | rest << width).to_bytes(len(packet) + 1, "little"))
    return out


def reeds(sounds):
    """A bank of (id, rate, int16 (frames, channels)), which share one setup header: all of one rate and so many channels."""
    setup, blocks, payloads = b"", 0, []
    for _, rate, pcm in sounds:
        out = io.BytesIO()
        soundfile.write(out, pcm, rate, format="OGG", subtype="VORBIS")
        first, _, setup, *rest = packets(out.getvalue())
        blocks = first[28]
        cut = _cut(rest, _modes(setup))
        payloads.append(b"".join(len(p).to_bytes(2, "big") + p for p in cut))
    longs = _modes(setup)
    head = HEAD.pack(
        b"REED", len(sounds), len(longs), sum(long << n for n, long in enumerate(longs)), blocks & 15, blocks >> 4
    )
    setup = len(setup).to_bytes(4, "little") + setup
    at = HEAD.size + REED.size * len(sounds) + len(setup)
    records, body = b"", b""
    for n, ((id, rate, pcm), payload) in enumerate(zip(sounds, payloads, strict=True)):
        body += bytes(-(at + len(body)) % 8)
        records += REED.pack(id, pcm.shape[1], rate, at + len(body), len(payload), len(pcm), 31 * n)
        body += payload
    return head + records + setup + body


def blow(data, id):
    """(int16 (frames, channels), rate) of a reed; ValueError where it is not there or not whole."""
    mark, count, modes, longs, short, long = HEAD.unpack_from(data)
    if mark != b"REED":
        raise ValueError("these are no reeds")
    behind = HEAD.size + REED.size * count
    size = int.from_bytes(data[behind : behind + 4], "little")
    setup = data[behind + 4 : behind + 4 + size]
    for n in range(count):
        number, channels, rate, at, stored, frames, _ = REED.unpack_from(data, HEAD.size + REED.size * n)
        if number != id:
            continue
        if at % 8 or at + stored > len(data):
            raise ValueError("the reed's record leads nowhere")
        sounds, payload, place = [], data[at : at + stored], 0
        while place < stored:
            length = int.from_bytes(payload[place : place + 2], "big")
            sounds.append(payload[place + 2 : place + 2 + length])
            place += 2 + length
        if place != stored:
            raise ValueError("a packet leaves the reed")
        head = b"\x01vorbis" + bytes(4) + bytes([channels]) + rate.to_bytes(4, "little") + bytes(12)
        head += bytes([short | long << 4, 1])
        note = b"\x03vorbis" + bytes(8) + b"\x01"
        laced = b"\x02" + bytes([len(head), len(note)]) + head + note + setup
        pcm = _decode("vorbis", _whole(sounds, [bool(longs >> n & 1) for n in range(modes)]), laced, channels)
        if len(pcm) < frames:
            raise ValueError(f"{frames} frames are promised, but {len(pcm)} are there")
        return np.ascontiguousarray(pcm[:frames]), rate
    raise ValueError("there is no such reed")
