"""Recognising files and entries: first by their signature, then by reading them whole.

Signatures: ZIP (APPNOTE 4.3.7, 4.3.16), RIFF/WAVE (RIFF 1991), Ogg (RFC 3533 section 6), FLAC
(RFC 9639 section 6), MPEG audio behind an ID3v2 tag (id3.org, ID3v2.4 section 3.1), and the marks of
every layout.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import PurePosixPath

from ..bank import AudioFileBank, Bank, DescribedBank, Stream
from ..base import Progress, ZubretError, silent
from ..container import Container, DescribedArchive, LooseFile, ZipArchive
from ..layout import Layout, recognises, shipped_layouts
from ..source import BytesSource, DiskCache, Source

HEAD = 64
"""Bytes at the beginning of a file that are enough to recognise it."""


def bank_kind(head: bytes) -> Layout | str | None:
    """What a file that begins with `head` would be as a bank: a layout, "audio", or None."""
    if (head[:4] == b"RIFF" and head[8:12] == b"WAVE") or head[:4] in (b"OggS", b"fLaC") or head[:3] == b"ID3":
        return "audio"
    short = BytesSource(head)
    return next((lo for lo in shipped_layouts() if lo.describes == "bank" and recognises(lo, short)), None)


def open_bank(source: Source) -> Bank | None:
    """The file as a bank; None where nothing recognises it, ZubretError where it is damaged."""
    kind = bank_kind(source.read(0, min(HEAD, source.size)))
    if kind is None:
        return None
    return AudioFileBank(source) if isinstance(kind, str) else DescribedBank(kind, source)


def open_archive(source: Source) -> Container | None:
    """The file as an archive (a loose bank or audio file is an archive of one entry).

    None where nothing recognises it, ZubretError where it is recognised but can't be read.
    """
    head = source.read(0, min(HEAD, source.size))
    if head[:4] in (b"PK\3\4", b"PK\5\6"):
        return ZipArchive(source)
    short = BytesSource(head)
    for layout in shipped_layouts():
        if layout.describes == "archive" and recognises(layout, short):
            return DescribedArchive(layout, source)
    return LooseFile(source) if bank_kind(head) is not None else None


@dataclass
class FoundBank:
    """A bank at entry number `entry`, or why it can't be read; `name` is what people call it."""

    entry: int
    name: str
    layout_id: str = ""
    language: str = ""
    streams: list[Stream] = field(default_factory=list)
    error: ZubretError | None = None


def banks_of(
    archive: Container, cache: DiskCache | None = None, key: str = "", progress: Progress = silent
) -> Iterator[FoundBank]:
    """Every entry of an archive that is a bank or an audio file, in table order."""
    total = len(archive.entries)
    for n, entry in enumerate(archive.entries):
        if n % 256 == 0:
            progress(n, total, f"looking into {archive.source.name}")
        if entry.size < 8 or bank_kind(archive.head(n, HEAD)) is None:
            continue
        name = PurePosixPath(entry.path).name
        try:
            bank = open_bank(archive.open(n, cache, f"{key}/{n}"))
        except ZubretError as e:
            yield FoundBank(n, name, error=e.inside(archive.source.name))
            continue
        if bank is not None:
            yield FoundBank(n, name, bank.layout_id, getattr(bank, "language", ""), bank.streams)
    progress(total, total, f"looked into {archive.source.name}")
