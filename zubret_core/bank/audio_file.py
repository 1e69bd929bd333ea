"""An audio file as a bank of one stream."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from posixpath import basename, splitext

from ..audio.files import file_format
from ..base import ZubretError
from ..source import Built, Segment, Source
from .base import Bank, NewStream, OnePayload, Stream


class AudioFileBank(Bank):
    """The whole file is the payload; its replacement keeps container and subtype."""

    kind = "file"
    layout_id = ""

    def __init__(self, source: Source):
        self.source = source
        format = file_format(source)
        if format is None or not format.frames:
            raise ZubretError(
                "The audio file can't be read or is empty.", file=source.name, next="Check it in another copy."
            )
        name, _ = splitext(basename(source.name))
        keeps = ("rate", "channels", "codec")
        self.language = ""
        self.name = name
        self.streams = [Stream(0, "", name, format, 0, source.size, "", OnePayload(source), (), keeps)]

    def rebuild(self, changes: Mapping[int, NewStream], *, anew: bool | Collection[str] = False) -> Built:
        new = changes[0].payload if 0 in changes else self.source
        kind = "new" if 0 in changes else "payload"
        return Built(new, [Segment(kind, 0, new.size, "", 0)], True, 0)

    def spans(self) -> Sequence[tuple[str, int, int]]:
        return [("", 0, self.source.size)]

    def segments(self) -> list[Segment]:
        return [Segment("payload", 0, self.source.size, "", 0)]
