"""Recognising files and entries: first by their signature, then by reading them whole.

Signatures: ZIP (APPNOTE 4.3.7, 4.3.16), TAR (POSIX.1-2001, ustar), gzip (RFC 1952), xz, Zstandard (RFC 8878) and bzip2
before TAR, ISO 9660 (ECMA-119 section 8.1), RIFF/WAVE (RIFF 1991), AIFF (1989), Ogg (RFC 3533 section 6), FLAC (RFC 9639 section
6), MPEG audio behind an ID3v2 tag (id3.org, ID3v2.4 section 3.1), and the marks of every layout.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from ..bank import AudioFileBank, Bank, DescribedBank
from ..base import ZubretError
from ..container import (
    Container,
    DescribedArchive,
    IsoImage,
    LooseFile,
    Siblings,
    TarArchive,
    ZipArchive,
)
from ..container.iso import MARK_AT, is_iso
from ..container.tar import head_of, is_tar, packing_of
from ..layout import Layout, fits_by_name, has_marks, read_layout
from ..layout.checks.sums import verify
from ..source import DiskCache, Later, Source
from .known import HEAD, Kind, Known, kind_by

_SIGNATURES = (b"PK\3\4", b"PK\5\6", b"RIFF", b"FORM", b"OggS", b"fLaC")
AUDIO = Kind("audio", "the signature of an audio file")
_FORMS = (b"RIFFWAVE", b"FORMAIFF", b"FORMAIFC")


def kind_of(source: Source, known: Known | None = None, head: bytes | None = None) -> Kind | None:
    """What a file is by its signature; None where nothing recognises it.

    head: its first bytes, where they are at hand already; then only marks at the beginning are looked for, and those
    of layouts whose name endings fit.
    """
    known = known or Known()
    first = source.read(0, min(HEAD, source.size)) if head is None else head
    for layout, marks in known.order(source.name):
        if not _begins(first, marks) or not fits_by_name(layout, source):
            continue
        elsewhere = len(marks) < len(layout.recognise)  # marks that do not stand in the first bytes
        if elsewhere and head is not None and not (layout.names or layout.paths or layout.inside):
            continue
        if (not elsewhere or has_marks(layout, source) is None) and (not layout.whole or _checks_out(layout, source)):
            return kind_by(layout)
    if first[:4] in (b"PK\3\4", b"PK\5\6"):
        return Kind("zip", "a ZIP header stands at its beginning")
    if first[:4] + first[8:12] in _FORMS or first[:4] in (b"OggS", b"fLaC") or first[:3] == b"ID3":
        return AUDIO
    method = packing_of(first)
    if method is not None and is_tar(head_of(source)):
        return Kind("tar", f"{method}, and a TAR header inside")
    if is_tar(first):
        return Kind("tar", "a TAR header whose sum is right")
    if (head is None or source.size > MARK_AT) and is_iso(source):
        return Kind("iso", "CD001 stands in sector 16")
    return None


def _checks_out(layout: Layout, source: Source) -> bool:
    """Whether a file can be read by a layout as a whole: its regions, its sums, and what its streams say of themselves."""
    try:
        if not layout.has_payloads:
            read_layout(layout, source)
            return True
        opened = (DescribedArchive if layout.describes == "archive" else DescribedBank)(layout, source)
        verify(opened.document)
        return opened.document.count > 0
    except ZubretError:
        return False


def open_bank(
    source: Source, known: Known | None = None, siblings: Siblings | None = None, kind: Kind | None = None
) -> Bank | None:
    """The file as a bank; None where nothing recognises it as one, ZubretError where it is damaged."""
    known = known or Known()
    kind = kind or kind_of(source, known)
    if kind is None or kind.is_archive or kind.is_list:
        return None
    if kind.layout is None:
        return AudioFileBank(source)
    return DescribedBank(kind.layout, source, siblings, known.keys(kind.layout, source.name))


def open_archive(
    source: Source,
    known: Known | None = None,
    siblings: Siblings | None = None,
    cache: DiskCache | None = None,
    key: str = "",
    kind: Kind | None = None,
) -> Container | None:
    """The file as an archive (a loose bank or audio file is an archive of one entry).

    siblings opens files beside it; kind: what it is, where that is known. None where nothing recognises it, ZubretError where it is recognised but can't be
    read, `Locked` where a key is missing.
    """
    known = known or Known()
    kind = kind or kind_of(source, known)
    if kind is None or kind.is_list:
        return None
    if kind.name == "zip":
        return ZipArchive(source)
    if kind.name == "tar":
        return TarArchive(source, cache, key)
    if kind.name == "iso":
        return IsoImage(source)
    if kind.layout is not None and kind.is_archive:
        archive = DescribedArchive(kind.layout, source, siblings, known.keys(kind.layout, source.name), cache)
        archive.labels = known.names(kind.layout, source.name)
        return archive
    return LooseFile(source, siblings)


def kinds_inside(archive: Container, known: Known, kind: Kind | None = None) -> Iterator[tuple[int, Kind, bytes]]:
    """Every entry of an archive that is recognised as a bank, an audio file or another archive, in table order, with its
    first bytes (none for a loose file, which is of the `kind` that it was recognised as)."""
    if archive.kind == "file":
        whole = kind or kind_of(archive.source, known)
        if whole is not None and not whole.is_list:
            yield 0, whole, b""
        return
    for n, (size, head) in enumerate(zip(archive.sizes(), archive.heads(HEAD), strict=True)):
        if size < 8 or isinstance(head, ZubretError) or not head:
            continue  # its bytes can't be reached; who takes it out is told why
        try:
            kind = _entry_kind(archive, n, size, head, known)
        except ZubretError:
            continue
        if kind is not None and not kind.is_list:
            yield n, kind, head


def _entry_kind(archive: Container, n: int, size: int, head: bytes, known: Known) -> Kind | None:
    for plain, marks in known.plain_kinds:  # these come first, and nothing else has to be looked at for them
        if _begins(head, marks):
            return plain
    if not (_may_be_known(head, known) or size > MARK_AT):
        return None
    name = f"{archive.source.name} › {archive.label(n)}"
    entry = Later(name, archive.entries[n].size, partial(archive.open, n))
    entry.holder = archive.layout_id or archive.kind
    if size > MARK_AT and not entry.name.lower().endswith((".iso", ".img", ".bin")):
        entry.size = min(size, MARK_AT)  # do not unpack every large entry to look for a disc image
        kind = kind_of(entry, known, head)
        entry.size = size
        return kind
    return kind_of(entry, known, head)


def _may_be_known(head: bytes, known: Known) -> bool:
    """A quick look at an entry's first bytes, which leaves most of the entries of an archive out."""
    if head[:4] in _SIGNATURES or head[:3] == b"ID3" or packing_of(head) is not None or is_tar(head):
        return True
    return any(_begins(head, marks) for _, marks in known.beginnings)


def _begins(head: bytes, marks: list[tuple[int, bytes]]) -> bool:
    """Whether all these marks stand in a file's first bytes."""
    return all(head[at : at + len(mark)] == mark for at, mark in marks)
