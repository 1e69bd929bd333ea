"""What a list of streams is narrowed by."""

from __future__ import annotations

from ninja import Schema


class Filter(Schema):
    """A filter as Locate has it. loop: "yes" or "no"; shortest, longest: seconds; an empty value leaves nothing out."""

    q: str = ""
    archive: int = 0
    language: str = ""
    kind: str = ""
    loop: str = ""
    marked: bool = False
    shortest: float | None = None
    longest: float | None = None
