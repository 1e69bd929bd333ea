"""The one error family of Zubret."""

from __future__ import annotations

from typing import Any


class ZubretError(Exception):
    """Something a person can act on: what is wrong, where, and what to do next.

    what:    one sentence, without the place
    file:    the file or entry, as the user knows it
    offset:  byte offset inside `file`
    field:   the field or setting that is wrong
    next:    one sentence that says what to do
    """

    def __init__(
        self,
        what: str,
        *,
        file: str | None = None,
        offset: int | None = None,
        field: str | None = None,
        next: str | None = None,
    ):
        super().__init__(what)
        self.what = what
        self.file = file
        self.offset = offset
        self.field = field
        self.next = next

    def __str__(self) -> str:
        where = self.where
        return f"{self.what} ({where})" if where else self.what

    @property
    def where(self) -> str:
        """The place in words: file, byte offset, field; empty where none is known."""
        parts = []
        if self.file:
            parts.append(self.file)
        if self.offset is not None:
            parts.append(f"byte {self.offset:,}")
        if self.field:
            parts.append(f"field {self.field}")
        return ", ".join(parts)

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form for the API, a job row or a proof."""
        return {"what": self.what, "where": self.where, "next": self.next or ""}

    def inside(self, file: str) -> ZubretError:
        """The same error seen from outside: `file` stands before the place already known."""
        if self.file and self.file != file:
            self.file = f"{file} › {self.file}"
        else:
            self.file = file
        return self


class Cancelled(Exception):
    """Raised by a progress callback when the user has asked to stop."""
