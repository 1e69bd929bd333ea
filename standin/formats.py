"""Writers of the game's house formats."""

import struct
import zipfile
import zlib
from io import BytesIO

import numpy as np

from . import adpcm

SECTOR = 2048
TONGUES = {"": 0, "English": 1, "French": 2, "German": 3}
PCM, ADPCM = 0, 1


def _fit(data, align, fill):
    return data + fill * (-len(data) % align)


class Sound:
    """One stream for a bank: id, int16 (frames, channels), rate, loop [start, end) or None."""

    def __init__(self, id, pcm, rate, loop=None, codec=ADPCM, block=2048, same_as=None):
        self.id, self.pcm, self.rate, self.loop = id, pcm, rate, loop
        self.codec, self.block, self.same_as = codec, block if codec == ADPCM else 0, same_as

    def payload(self):
        """The bytes that the bank stores."""
        return adpcm.encode(self.pcm, self.block) if self.codec == ADPCM else self.pcm.astype("<i2").tobytes()


def bell(name, sounds, tongue=""):
    """A bank: head of 48 bytes, records of 32, payloads on a grid of 32 filled with EE."""
    head, body = _bank(b"BELL", name, sounds, tongue)
    return head + body


def towed_bell(name, sounds, tongue=""):
    """(bank, companion): a bank whose payloads stand in a file of their own, from its beginning."""
    return _bank(b"BELT", name, sounds, tongue)


def _bank(mark, name, sounds, tongue):
    payload_at = 48 + 32 * len(sounds)
    payload_at += -payload_at % 32
    body, places = bytearray(), {}
    records = []
    for n, sound in enumerate(sounds):
        if sound.same_as is None:
            data = sound.payload()
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
        payload_at + len(body) if mark == b"BELL" else payload_at,
        zlib.crc32(table),
    )
    return _fit(head + table, 32, b"\xee"), bytes(body)


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
