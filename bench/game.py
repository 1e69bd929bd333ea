"""A made-up game at full size, the same each time: loose sounds, large archives, archives in archives, hours of sound.

Files that need not hold anything have holes, so that the disk is not filled.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from pathlib import Path

import numpy as np

from standin.formats import PCM, Sound, bell, crate

HEAD = struct.Struct("<4sHHIIII24s")
ENTRY = struct.Struct("<56sIIIHHI")
SECTOR = 2048


def loose_sounds(folder: Path, count: int, seed: int = 1) -> None:
    """Short WAV files (RIFF, mono, 16 bits), 500 in a folder."""
    rng = np.random.default_rng(seed)
    for n in range(count):
        place = folder / f"d{n // 500:03}"
        if n % 500 == 0:
            place.mkdir(parents=True)
        (place / f"s{n:05}.wav").write_bytes(wav_head(400) + rng.bytes(400))


def wav_head(size: int, rate: int = 8000, channels: int = 1) -> bytes:
    """The head of a WAV file of 16 bits; size: bytes of its samples."""
    format = struct.pack("<IHHIIHH", 16, 1, channels, rate, 2 * rate * channels, 2 * channels, 16)
    return b"RIFF" + struct.pack("<I", 36 + size) + b"WAVEfmt " + format + b"data" + struct.pack("<I", size)


def large_table(place: Path, count: int) -> None:
    """An archive of many small entries; between its header and its table the file has holes."""
    records = b"".join(
        ENTRY.pack(f"sound/bank_{n // 500:03}/cue_{n:06}.bin".encode(), n + 1, 900, 900, 0, n & 0xFFFF, 0)
        for n in range(count)
    )
    sector = count + 1
    size = ((sector * SECTOR + len(records) + SECTOR - 1) // SECTOR) * SECTOR
    head = HEAD.pack(b"SFCR", 3, 0, count, sector, zlib.crc32(records), size // SECTOR, b"bench")
    with open(place, "wb") as out:
        out.write(head)
        out.seek(sector * SECTOR)
        out.write(records)
        out.truncate(size)


def many_streams(place: Path, count: int, seed: int = 2, each: int = 500) -> None:
    """An archive of banks of `each` short streams."""
    rng, files = np.random.default_rng(seed), []
    for first in range(0, count, each):
        sounds = [
            Sound(first + n + 1, rng.integers(-3000, 3000, (int(rng.integers(400, 2400)), 1)).astype(np.int16), 8000,
                  codec=PCM)
            for n in range(min(each, count - first))
        ]  # fmt: skip
        files.append((f"voice/bank_{first // each:03}.bell", bell(f"bank {first // each}", sounds), False))
    place.write_bytes(crate("bench", files))


def large_zip(place: Path, count: int, sounds: int) -> None:
    """A ZIP file of many stored members; the first `sounds` of them are WAV files."""
    sound, other = wav_head(400) + bytes(400), b"nothing to be heard"
    with zipfile.ZipFile(place, "w") as pack:
        for n in range(count):
            pack.writestr(
                f"line/{n // 500:03}/l{n:06}.{'wav' if n < sounds else 'txt'}", sound if n < sounds else other
            )


def nested(place: Path, count: int) -> None:
    """A ZIP file of ZIP files, each with one sound."""
    with zipfile.ZipFile(place, "w") as pack:
        for n in range(count):
            inner = io.BytesIO()
            with zipfile.ZipFile(inner, "w") as one:
                one.writestr("in.wav", wav_head(400) + bytes(400))
            pack.writestr(f"packs/p{n:04}.zip", inner.getvalue())


def hours(place: Path, count: int) -> None:
    """A stereo WAV file of so many hours at 48,000 Hz, nearly all of it a hole."""
    size = count * 3600 * 48000 * 4
    with open(place, "wb") as out:
        out.write(wav_head(size, 48000, 2))
        out.truncate(44 + size)


def make(folder: Path, files: int, entries: int, streams: int, packs: int = 0, long: int = 0) -> None:
    """A game of so many loose files, entries of a table, streams in banks (and as many members of a ZIP file), archives
    inside one, and hours."""
    (folder / "data").mkdir(parents=True)
    if files:
        loose_sounds(folder / "loose", files)
    large_table(folder / "data" / "table.crate", entries)
    many_streams(folder / "data" / "voice.crate", streams)
    large_zip(folder / "data" / "lines.zip", entries, streams)
    if packs:
        nested(folder / "data" / "nested.zip", packs)
    if long:
        hours(folder / "data" / "night.wav", long)
