"""Writers of the game's house formats."""

import struct
import zipfile
import zlib
from functools import cached_property
from io import BytesIO

import numpy as np

from . import adpcm, plain, told

SECTOR = 2048
TONGUES = {"": 0, "English": 1, "French": 2, "German": 3}
PCM, ADPCM, VOICE, LANES, TIDE, TOLD, LAMP = range(7)


def _fit(data, align, fill):
    return data + fill * (-len(data) % align)


class Sound:
    """One stream for a bank: id, int16 (frames, channels), rate, loop [start, end) or None; packets that are there."""

    def __init__(self, id, pcm, rate, loop=None, codec=ADPCM, block=2048, same_as=None, packets=None):
        self.packets = packets
        self.id, self.pcm, self.rate, self.loop = id, pcm, rate, loop
        self.codec, self.block, self.same_as = codec, block if codec == ADPCM else 0, same_as

    @cached_property
    def payload(self):
        """The bytes that the bank stores."""
        if self.packets:
            return told.framed(self.packets)
        if self.codec == ADPCM:
            return adpcm.encode(self.pcm, self.block)
        write = {VOICE: plain.as_voice, LANES: plain.as_lanes, TIDE: plain.as_tide}.get(self.codec)
        return write(self.pcm) if write else self.pcm.astype("<i2").tobytes()


def bell(name, sounds, tongue=""):
    """A bank: head of 48 bytes, records of 32, payloads on a grid of 32 filled with EE."""
    head, body = _bank(b"BELL", name, sounds, tongue)
    return head + body


def towed_bell(name, sounds, tongue=""):
    """(bank, companion): a bank whose payloads stand in a file of their own, from its beginning."""
    return _bank(b"BELT", name, sounds, tongue)


def told_bell(name, sounds, setup):
    """A bank of packets; the setup header that its Vorbis streams share stands behind the records, its length first."""
    head, body = _bank(b"BELV", name, sounds, "", struct.pack("<I", len(setup)) + setup)
    return head + body


def _bank(mark, name, sounds, tongue, extra=b""):
    payload_at = 48 + 32 * len(sounds) + len(extra)
    payload_at += -payload_at % 32
    body, places = bytearray(), {}
    records = []
    for n, sound in enumerate(sounds):
        if sound.same_as is None:
            data = sound.payload
            places[sound.id] = len(body), len(data)
            body += _fit(data, 32, b"\xee")
        at, stored = places[sound.id if sound.same_as is None else sound.same_as]
        frames, channels = sound.pcm.shape
        form = sound.codec | (channels - 1) << 3 | (sound.loop is not None) << 6
        form |= (sound.rate // 50) << 8 | (sound.block // 4) << 20
        start, end = sound.loop or (0, 0)
        volume, chapter = 200 + n % 50, n * 257 & 0xFFFF
        records.append(struct.pack("<7I2H", sound.id, at // 32, stored, form, frames, start, end, volume, chapter))
    table = b"".join(records)
    head = struct.pack(
        "<4sBBH24sIIII",
        mark,
        2,
        TONGUES[tongue],
        4711,
        name.encode(),
        len(sounds),
        payload_at,
        payload_at if mark == b"BELT" else payload_at + len(body),
        zlib.crc32(table),
    )
    return _fit(head + table + extra, 32, b"\xee"), bytes(body)


def page(lines):
    """A table of what is spoken: (id, language of two letters, text). Texts are UTF-8, their bytes counted before them."""
    out = struct.pack("<4sI", b"PAGE", len(lines))
    for id, tongue, text in lines:
        line = text.encode()
        out += struct.pack("<I2sH", id, tongue.encode(), len(line)) + line
    return out


def drift(sounds):
    """A bank of sounds that float in the sea; nobody has written a layout for it yet. sounds: (id, int16 mono, rate)."""
    head = struct.pack("<4sHHIIII", b"DRFT", 1, len(sounds), 64, 0, 20, 0x5EA)
    head = _fit(head, 64, b"\0")
    records, body = b"", b""
    base = 64 + 20 * len(sounds)
    base += -base % 16
    for id, pcm, rate in sounds:
        data = plain.as_drift(pcm)
        records += struct.pack("<HHIIII", id, 1, base + len(body), len(data), len(pcm), rate)
        body += _fit(data, 16, b"\0")
    whole = _fit(head + records, 16, b"\0") + body
    return whole[:12] + struct.pack("<I", len(whole)) + whole[16:]


def crate(build, files):
    """An archive: files is a list of (path, bytes, packed); payloads in sectors, table at the end."""
    body, records = bytearray(SECTOR), []
    for n, (path, data, packed) in enumerate(files):
        stored = zlib.compress(data, 6) if packed else data
        records.append(
            struct.pack(
                "<56sIIIHHI",
                path.encode(),
                len(body) // SECTOR,
                len(stored),
                len(data),
                int(packed) | (n * 37 & 0xFFF) << 4,
                n * 1009 & 0xFFFF,
                zlib.crc32(data),
            )
        )
        body += _fit(stored, SECTOR, b"\0")
    table = b"".join(records)
    table_sector = len(body) // SECTOR
    body += _fit(table, SECTOR, b"\0")
    body[:48] = struct.pack(
        "<4sHHIIII24s", b"SFCR", 3, 77, len(files), table_sector, zlib.crc32(table), len(body) // SECTOR, build.encode()
    )
    return bytes(body)


def wav(pcm, rate, loop=None):
    """A 16-bit WAV file; the loop goes into a `smpl` chunk behind the samples (its end inclusive)."""
    channels = pcm.shape[1]
    data = pcm.astype("<i2").tobytes()
    chunks = b"fmt " + struct.pack("<IHHIIHH", 16, 1, channels, rate, rate * channels * 2, channels * 2, 16)
    chunks += b"data" + struct.pack("<I", len(data)) + data
    if loop:
        chunks += b"smpl" + struct.pack(
            "<I15I", 60, 0, 0, 10**9 // rate, 60, 0, 0, 0, 1, 0, 0, 0, loop[0], loop[1] - 1, 0, 0
        )
    return b"RIFF" + struct.pack("<I", 4 + len(chunks)) + b"WAVE" + chunks


def ordinary_zip(files):
    """A ZIP file with fixed times; Ogg is stored, all else deflated."""
    out = BytesIO()
    with zipfile.ZipFile(out, "w") as pack:
        for path, data in files:
            info = zipfile.ZipInfo(path, (2026, 3, 14, 21, 30, 0))
            info.compress_type = zipfile.ZIP_STORED if path.endswith(".ogg") else zipfile.ZIP_DEFLATED
            info.external_attr = 0o644 << 16
            pack.writestr(info, data, compresslevel=6)
    return out.getvalue()


def as_int16(pcm):
    """Float (frames, channels) in [-1, 1] as int16."""
    return np.clip(np.rint(pcm * 32767), -32768, 32767).astype(np.int16)


def seal(data):
    """The text that seals some bytes."""
    return f"SEAL {zlib.crc32(data):08x} {len(data)}\n"
