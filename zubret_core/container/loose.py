"""A bank or an audio file that lies in the game's folder without an archive around it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from ..source import Built, DiskCache, Segment, Source
from .base import Container, Entry, NewEntry, Siblings, cannot_add, cannot_choose


class LooseFile(Container):
    """One entry: the file itself. `siblings` opens what stands beside it."""

    kind = "file"
    layout_id = ""

    def __init__(self, source: Source, siblings: Siblings | None = None):
        self.source, self.siblings = source, siblings
        self.entries: Sequence[Entry] = [
            Entry(source.name.rsplit("/", 1)[-1], 0, source.size, source.size, "plain", None)
        ]

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        return self.source

    def head(self, index: int, length: int) -> bytes:
        return self.source.read(0, min(length, self.source.size))

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
        new = changes.get(0, self.source)
        kind = "new" if 0 in changes else "payload"
        return Built(new, [Segment(kind, 0, new.size, "", 0)], True, 0)

    def segments(self) -> list[Segment]:
        return [Segment("payload", 0, self.source.size, "", 0)]

    def sharing(self, index: int) -> list[int]:
        return []

    def check(self, index: int, content: Source | None = None) -> None:
        """A loose file has no sums."""

    def spans(self) -> Sequence[tuple[str, int, int]]:
        return [("", 0, self.source.size)]

    def is_plain(self, index: int) -> bool:
        return True

    def beside(self, index: int) -> Siblings:
        return super().beside(index) if self.siblings is None else self.siblings
