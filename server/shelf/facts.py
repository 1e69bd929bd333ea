"""What names are made of: the columns of a stream that a template of names may use."""

from __future__ import annotations

from typing import Any, NamedTuple

from zubret_core.base import Format

from .models import FORMAT, format_of


class Facts(NamedTuple):
    """What of a stream decides its file's name, tags and size; of a row that `query.described` gives."""

    pk: int
    locator: str
    archive: int
    bank: str
    entry: str
    language: str
    stream_id: str
    shown: str
    shown_kind: str
    codec: str
    variant: str
    rate: int
    channels: int
    frames: int
    loop_start: int | None
    loop_end: int | None
    block_size: int
    parameters: dict[str, Any]

    def format(self) -> Format:
        """The stream's format."""
        return format_of(*self[9:])

    def fields(self, file: str, number: int) -> dict[str, object]:
        """The values of a template's fields (`zubret_core.extract.FIELDS`); file: the one of the game that holds the stream."""
        seconds = round(self.frames / self.rate)
        return {
            "bank": _stem(self.bank),
            "id": self.stream_id,
            "name": self.shown,
            "language": self.language,
            "entry": self.entry[: -len(_ending(self.entry)) or None],
            "archive": _stem(file),
            "number": number,
            "length": f"{seconds // 60}m{seconds % 60:02}",
            "rate": self.rate,
            "channels": self.channels,
            "codec": self.codec,
            "kind": self.shown_kind,
        }


def _ending(path: str) -> str:
    """The ending of a path, with its point; a name that begins with its only point has none."""
    name = path.rpartition("/")[2]
    return name[name.rindex(".") :] if "." in name[1:] else ""


def _stem(path: str) -> str:
    """The name of a path without its ending."""
    name = path.rpartition("/")[2]
    return name[: -len(_ending(name)) or None]


COLUMNS = ("pk", "locator", "archive", "bank__name", "bank__entry_path", "language", "stream_id", "shown",
           "shown_kind", *FORMAT)  # fmt: skip
"""For `values_list`, in the order of Facts."""
