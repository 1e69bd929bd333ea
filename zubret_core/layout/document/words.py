"""What the steps of a file, a region or an item's payload may name, and what that is in this file."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...base import ZubretError
from ..language.expression import compiled, evaluate

if TYPE_CHECKING:
    from .document import Document

LARGEST_DICTIONARY = 1 << 26
"""Bytes of a dictionary at most."""


class FileWords:
    """What the regions that stand once, as far as they are read, say to the steps of a region."""

    def __init__(self, document: Document):
        self._document = document

    def _wrong(self, what: str, field: str) -> ZubretError:
        next = "Correct the layout: steps name fields that are read before they are needed."
        return ZubretError(what, file=self._document.file.name, field=field, next=next)

    def content(self, name: str) -> bytes:
        """The bytes of a field of a region that stands once."""
        region, _, field = name.partition(".")
        instance = self._document.instance(region)
        slot = instance.shape.slots.get(field) if instance else None
        if instance is None or slot is None:
            raise self._wrong(f'"{name}" is no field read so far.', name)
        return instance.records.cells(slot).contents()[0] or b""

    def number(self, text: int | str) -> int:
        """The value of an expression."""
        return evaluate(text, self._document.numbers, self._document.file.name)

    def path(self) -> str:
        """Only an item has one."""
        raise self._wrong("A region has no path.", "iv")

    def dictionary(self, name: str) -> bytes:
        """The bytes of one of `files`, of a region, of a field, or of an entry by its path."""
        document = self._document
        if name in document.layout.files:
            source = document.file_named(document.companion(name))
        elif (instance := document.instance(name)) is not None:
            source = instance.content
        elif document.instance(name.partition(".")[0]) is not None:
            return self.content(name)
        else:
            return self._entry(name)
        if source.size > LARGEST_DICTIONARY:
            raise self._wrong(f"A dictionary of {source.size:,} bytes is too large.", name)
        return source.read(0, source.size)

    def _entry(self, path: str) -> bytes:
        document = self._document
        paths = document.column("path") if document.kind == "entry" else None
        if not paths or path not in paths:
            raise self._wrong(f'"{path}" is neither one of `files`, nor a region, a field, nor an entry.', path)
        item = paths.index(path)
        if any(getattr(s, "dictionary", None) for s in document.steps(item)):
            raise self._wrong(f"The entry {path} is a dictionary, so it can't be packed with one.", path)
        size = int(document.array("size")[item]) if document.as_read("size") is not None else None
        stored = document.payload(item)
        size = stored.size if size is None else size
        if size > LARGEST_DICTIONARY:
            raise self._wrong(f"A dictionary of {size:,} bytes is too large.", path)
        content = document.chain(item).unpacked(stored, size)
        return content.read(0, size)


class ItemWords(FileWords):
    """The same for an item's payload, whose own record says more."""

    def __init__(self, document: Document, item: int, size: int | None = None, path: str = ""):
        super().__init__(document)
        self._item, self._size, self._path = item, size, path

    def content(self, name: str) -> bytes:
        """The bytes of a field of the item's own record, else of a region that stands once."""
        document = self._document
        for instance in document.group_of(self._item).instances:
            slot = instance.shape.slots.get(name)
            if slot is not None:
                return instance.records.cells(slot).contents()[document.row_of(self._item, instance)] or b""
        return super().content(name)

    def number(self, text: int | str) -> int:
        """The value of an expression that may name numbers of the item's record and its unpacked bytes, too."""
        named = {name: value for name in compiled(text).names if (value := self._value(name)) is not None}
        return evaluate(text, {**self._document.numbers, **named}, self._document.file.name)

    def _value(self, name: str) -> int | None:
        document, item = self._document, self._item
        if name == f"{document.kind}.size":
            sizes = document.array("size" if document.as_read("size") is not None else "stored")
            return int(sizes[item]) if self._size is None else self._size
        for instance in document.group_of(item).instances:
            slot = instance.shape.slots.get(name)
            if slot is not None and slot.whole:
                return int(instance.records.numbers(slot)[document.row_of(item, instance)])
        return None

    def path(self) -> str:
        """The entry's path."""
        paths = self._document.column("path")
        return self._path or (paths[self._item] if paths else "")
