"""The archive data/cabin.lock, which a game may have: what the crew keeps to itself.

CABN, then little-endian numbers: version (2 bytes), entries (2), key (4), sum of the table (4), bytes of the file (4). The table
stands at byte 20, XORed with the four bytes of the key over and over; a record has 48 bytes: path (24), place, stored bytes, bytes,
how, CRC-32 of the bytes, and a number of the purser's (4 each). Payloads stand at multiples of 16. How 1 is squeezed: a byte of
flags before eight items, the highest bit first, 0 for a byte as it is; 1 for two bytes, high one first, whose upper five bits are a
length from 3 on and whose lower eleven a distance from 1 on.

Oars are a bank (OARS, a count of two bytes, records of 72: id 2, rate 2, place, stored, frames, loop start and end 4 each; then 48
bytes for the sound): frames of 8 bytes, a byte with filter (high half) and shift (low half), then 14 nibbles, high half first. A nibble
counts 1 << shift, added to what the filter says of the last two samples, in 1/2048. The 48 bytes hold, high byte first, eight
filters, nothing, the first frame's header, the two samples before it, the header of the frame in which the loop begins, the two
samples before that, nothing. A shout is bare MPEG audio.
"""

import io
import struct
import zlib

import av
import numpy as np

HEAD, RECORD = struct.Struct("<4sHHIII"), struct.Struct("<24s6I")
OAR = struct.Struct("<HHIIIII48s")
SHARES = ((0, 0), (1920, 0), (3680, -1664), (3136, -1760), (3900, -1900), (1024, 0), (2457, -819), (3481, -1843))


def squeeze(data):
    """The stored bytes, by looking for the longest match each time."""
    items, at = [], 0
    while at < len(data):
        best, back = 0, 0
        for start in range(max(0, at - 2048), at):
            size = 0
            while size < 34 and at + size < len(data) and data[start + size] == data[at + size]:
                size += 1
            if size > best:
                best, back = size, at - start
        if best >= 3:
            items.append((1, (best - 3 << 11 | back - 1).to_bytes(2, "big")))
            at += best
        else:
            items.append((0, data[at : at + 1]))
            at += 1
    out = b""
    for n in range(0, len(items), 8):
        flags = sum(flag << 7 - k for k, (flag, _) in enumerate(items[n : n + 8]))
        out += bytes([flags]) + b"".join(text for _, text in items[n : n + 8])
    return out


def unsqueeze(data, size):
    """What squeezed bytes mean."""
    out, at = bytearray(), 0
    while len(out) < size:
        flags, at = data[at], at + 1
        for bit in range(7, -1, -1):
            if len(out) >= size:
                break
            if flags >> bit & 1:
                word, at = data[at] << 8 | data[at + 1], at + 2
                back = (word & 0x7FF) + 1
                if back > len(out):
                    raise ValueError("a match begins before the first byte")
                for _ in range((word >> 11) + 3):
                    out.append(out[-back])
            else:
                out.append(data[at])
                at += 1
    if len(out) != size:
        raise ValueError(f"{len(out)} bytes came out of {size}")
    return bytes(out)


def _locked(data, key):
    row = key.to_bytes(4, "little")
    return bytes(byte ^ row[n % 4] for n, byte in enumerate(data))


def cabin(entries, key):
    """The archive of (path, bytes, whether squeezed)."""
    at = -(-(HEAD.size + RECORD.size * len(entries)) // 16) * 16
    table, body = b"", bytes(at - HEAD.size - RECORD.size * len(entries))
    for n, (path, data, squeezed) in enumerate(entries):
        stored = squeeze(data) if squeezed else data
        table += RECORD.pack(path.encode(), at, len(stored), len(data), int(squeezed), zlib.crc32(data), 7 * n)
        body += stored + bytes(-len(stored) % 16)
        at += len(stored) + -len(stored) % 16
    return HEAD.pack(b"CABN", 1, len(entries), key, zlib.crc32(table), at) + _locked(table, key) + body


def opened(data):
    """The entries by their paths; ValueError where anything is not as it should be."""
    mark, version, count, key, total, size = HEAD.unpack_from(data)
    table = _locked(data[HEAD.size : HEAD.size + RECORD.size * count], key)
    if (mark, version, size) != (b"CABN", 1, len(data)) or zlib.crc32(table) != total:
        raise ValueError("this is no cabin, or its table is not whole")
    out = {}
    for n in range(count):
        path, at, stored, length, how, total, _ = RECORD.unpack_from(table, RECORD.size * n)
        if at % 16 or at + stored > size or how > 1:
            raise ValueError(f"record {n} leads nowhere")
        content = unsqueeze(data[at : at + stored], length) if how else data[at : at + stored]
        if len(content) != length or zlib.crc32(content) != total:
            raise ValueError(f"record {n} is not what its sum says")
        out[path.rstrip(b"\0").decode()] = content
    return out


def oars(sounds):
    """A bank of (id, rate, int16 samples, loop or None)."""
    at, records, body = 6 + OAR.size * len(sounds), b"", b""
    for id, rate, pcm, loop in sounds:
        payload, samples = _rowed(pcm)
        start, end = loop or (0, 0)
        past = (samples[start - 1], samples[start - 2]) if start > 1 else (0, 0)
        heads = payload[0], payload[start // 14 * 8] if loop else 0
        words = [n for pair in SHARES for n in pair] + [0, heads[0], 0, 0, heads[1], *(past if loop else (0, 0)), 0]
        setup = struct.pack(">24h", *words)
        records += OAR.pack(id, rate, at + len(body), len(payload), len(pcm), start, end, setup)
        body += payload
    return struct.pack("<4sH", b"OARS", len(sounds)) + records + body


def _rowed(pcm):
    """Frames of samples, and these as they are heard: of each filter and shift the one that leaves least over."""
    out, heard = b"", []
    wide = np.concatenate([pcm, np.repeat(pcm[-1:], -len(pcm) % 14)]).astype(int).tolist()
    for first in range(0, len(wide), 14):
        tries = []
        for n, (one, two) in enumerate(SHARES):
            for shift in range(13):
                last, before = (heard[-1], heard[-2]) if len(heard) > 1 else (0, 0)
                row, nibbles, error = [], [], 0
                for value in wide[first : first + 14]:
                    guess = one * last + two * before >> 11
                    nibble = max(-8, min(7, round((value - guess) / (1 << shift))))
                    sample = max(-32768, min(32767, guess + (nibble << shift)))
                    before, last = last, sample
                    row.append(sample)
                    nibbles.append(nibble & 15)
                    error += (value - sample) ** 2
                tries.append((error, n, shift, row, nibbles))
        _, n, shift, row, nibbles = min(tries, key=lambda t: t[0])
        heard += row
        out += bytes([n << 4 | shift]) + bytes(a << 4 | b for a, b in zip(nibbles[::2], nibbles[1::2], strict=True))
    return out, heard


def row(data, id):
    """(int16 (frames, 1), rate, loop) of a sound of the oars; ValueError where it is not there, or its record is not right."""
    mark, count = struct.unpack_from("<4sH", data)
    if mark != b"OARS":
        raise ValueError("these are no oars")
    for n in range(count):
        number, rate, at, stored, frames, start, end, setup = OAR.unpack_from(data, 6 + OAR.size * n)
        if number != id:
            continue
        words = struct.unpack(">24h", setup)
        payload = data[at : at + stored]
        if len(payload) != stored or stored != -(-frames // 14) * 8 or words[17] != payload[0]:
            raise ValueError("the record does not suit its sound")
        heard = [words[19], words[18]]
        for f in range(0, stored, 8):
            one, two = words[2 * (payload[f] >> 4) : 2 * (payload[f] >> 4) + 2]
            for byte in payload[f + 1 : f + 8]:
                for nibble in (byte >> 4, byte & 15):
                    guess = one * heard[-1] + two * heard[-2] >> 11
                    value = (nibble - 16 if nibble > 7 else nibble) << (payload[f] & 15)
                    heard.append(max(-32768, min(32767, guess + value)))
        pcm = heard[2 : 2 + frames]
        if end > start:
            past = (pcm[start - 1], pcm[start - 2]) if start > 1 else (0, 0)
            if words[20] != payload[start // 14 * 8] or words[21:23] != past:
                raise ValueError("the record does not say what stands before the loop")
        return np.array(pcm, np.int16)[:, None], rate, (start, end) if end > start else None
    raise ValueError("there is no such oar")


def shout(payload):
    """(int16 (frames, channels), rate) of bare MPEG audio, by the media library."""
    with av.open(io.BytesIO(payload), format="mp3") as file:
        rows = [frame.to_ndarray() for frame in file.decode(audio=0)]
        rate = file.streams.audio[0].rate
    wide = np.concatenate(rows, axis=1).T
    return np.clip(np.rint(wide * 32768), -32768, 32767).astype(np.int16), rate


def as_shout(pcm, rate):
    """Bare MPEG audio of layer 3 at 64 kbit/s."""
    writer = av.CodecContext.create("libmp3lame", "w")
    writer.sample_rate, writer.layout, writer.format, writer.bit_rate = rate, "mono", "s16p", 64_000
    out, size = b"", 576 if rate < 32_000 else 1152
    for at in range(0, len(pcm), size):
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(pcm[at : at + size].T), "s16p", "mono")
        frame.sample_rate, frame.pts = rate, at
        out += b"".join(bytes(p) for p in writer.encode(frame))
    return out + b"".join(bytes(p) for p in writer.encode(None))
