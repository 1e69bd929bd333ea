"""ISO 9660 images (ECMA-119) through pycdlib, with Joliet or Rock Ridge names where the image has them.

Reading maps each file to its extent, so that entries are slices of the image; writing is in `iso_write`.
"""

from __future__ import annotations

import io
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

import pycdlib

from ..base import ZubretError
from ..source import Built, DiskCache, Segment, SliceSource, Source, SourceFile
from .base import Container, Entry, NewEntry, cannot_add, cannot_choose
from .iso_write import SECTOR, rewritten

MARK_AT, MARK = 16 * SECTOR + 1, b"CD001"
DEEPEST = 64
"""Levels of folders at most."""


def is_iso(source: Source) -> bool:
    """Whether a volume descriptor stands where ECMA-119, section 8.1, wants it."""
    return source.size > MARK_AT + 5 and source.read(MARK_AT, 5) == MARK


class IsoImage(Container):
    """The files of an image, under the longest names that it has for them."""

    kind = "iso"
    layout_id = "iso"

    def __init__(self, source: Source):
        self.source = source
        self._paths: list[str] = []
        try:
            image = self._opened()
            self._names = "joliet_path" if image.has_joliet() else "rr_path" if image.has_rock_ridge() else "iso_path"
            self.entries: Sequence[Entry] = list(self._read(image, "/", 0))
        except ZubretError:
            raise
        except Exception as e:  # a damaged image makes the library stumble in many ways (found by fuzzing)
            raise ZubretError(
                f"The disc image can't be read: {e}.",
                file=source.name,
                next="It is damaged or cut short: check it against another copy.",
            ) from e

    def _opened(self) -> Any:
        image = pycdlib.PyCdlib()
        image.open_fp(io.BufferedReader(SourceFile(self.source)))
        return image

    def _read(self, image: Any, folder: str, depth: int) -> Iterator[Entry]:
        if depth > DEEPEST:
            raise ValueError(f"folders stand {DEEPEST} deep in each other")
        below = []
        for child in image.list_children(**{self._names: folder}):
            if child is None or child.is_dot() or child.is_dotdot():
                continue
            name = self._name(child)
            path = f"{folder.rstrip('/')}/{name}"
            if child.is_dir():
                below.append(path)
                continue
            at, size = child.extent_location() * SECTOR, child.get_data_length()
            if at + size > self.source.size:
                raise ValueError(f"{path} leaves the image")
            self._paths.append(path)
            shown = path[1:] if self._names != "iso_path" else path[1:].split(";")[0]
            yield Entry(shown, at, size, size, "plain", None)
        for path in below:
            yield from self._read(image, path, depth + 1)

    def _name(self, child: Any) -> str:
        if self._names == "rr_path":
            return child.rock_ridge.name().decode("utf-8", "surrogateescape")
        encoding = "utf-16-be" if self._names == "joliet_path" else "utf-8"
        return child.file_identifier().decode(encoding, "replace" if encoding != "utf-8" else "surrogateescape")

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        entry = self.entries[index]
        return SliceSource(self.source, entry.at, entry.stored, entry.path)

    def head(self, index: int, length: int) -> bytes:
        entry = self.entries[index]
        return self.source.read(entry.at, min(length, entry.stored))

    def check(self, index: int, content: Source | None = None) -> None:
        """Files of an image have no sums."""

    def sharing(self, index: int) -> list[int]:
        entry = self.entries[index]
        return [n for n, e in enumerate(self.entries) if e.at == entry.at and e.stored and n != index]

    def spans(self) -> Sequence[tuple[str, int, int]]:
        return [("", e.at, e.stored) for e in self.entries]

    def is_plain(self, index: int) -> bool:
        return True

    def segments(self) -> list[Segment]:
        spans = sorted({(e.at, e.stored): n for n, e in reversed(list(enumerate(self.entries))) if e.stored}.items())
        out, cursor = [], 0
        for (at, stored), n in spans:
            if at > cursor:
                out.append(Segment("header" if cursor == 0 else "padding", cursor, at - cursor))
            out.append(Segment("payload", at, stored, "", n))
            cursor = at + stored
        if cursor < self.source.size:
            out.append(Segment("padding", cursor, self.source.size - cursor))
        return out

    def rebuild(
        self,
        changes: Mapping[int, Source],
        *,
        added: Sequence[NewEntry] = (),
        anew: bool | Collection[str] = False,
        only: Collection[int] | None = None,
    ) -> Built:
        if added:
            raise cannot_add(self.source.name)
        if only is not None:
            raise cannot_choose(self.source.name)
        by_extent = {(self.entries[n].at, self.entries[n].stored): new for n, new in changes.items()}
        if anew:  # every length and place is written from its meaning
            for n, entry in enumerate(self.entries):
                if entry.stored:
                    by_extent.setdefault((entry.at, entry.stored), self.open(n))
        source, places = rewritten(self.source, by_extent, bool(anew))
        again = IsoImage(source)
        moved = sum(
            a.at != b.at for n, (a, b) in enumerate(zip(self.entries, again.entries, strict=True)) if n not in changes
        )
        changed = {places[e.at, e.stored] for n, e in enumerate(self.entries) if n in changes}
        segments = [s._replace(kind="new" if s.at in changed and s.item >= 0 else s.kind) for s in again.segments()]
        return Built(source, segments, moved == 0, moved)
