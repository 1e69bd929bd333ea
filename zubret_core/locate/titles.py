"""A table of ids and titles, as modders keep them: read from a file in any usual spelling, and matched with streams."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from ..base import ZubretError

LARGEST = 8 << 20
"""Bytes of a table at most."""
SEPARATORS = "\t;,|"
IDS = ("id", "number", "no", "nr", "#", "index", "stream", "key", "hash")
TITLES = ("title", "name", "text", "track", "caption")
BANKS = ("bank", "file", "soundbank")
"""Words that stand above such a column; common practice."""
SHOWN = 20
"""Ids of each kind that are listed."""


@dataclass(frozen=True)
class Table:
    """Rows of cells; head: whether the first one names the columns. encoding, separator: as they were found."""

    rows: list[list[str]]
    head: bool
    encoding: str
    separator: str

    def column(self, words: Sequence[str]) -> int | None:
        """The column that is headed by one of these words."""
        named = [cell.strip().lower() for cell in self.rows[0]] if self.head else []
        return next((named.index(word) for word in words if word in named), None)

    @property
    def body(self) -> list[list[str]]:
        """The rows below the head."""
        return self.rows[1:] if self.head else self.rows


@dataclass
class Matched:
    """Titles by the streams' numbers; ids of the table that no stream has; ids that stand there with several titles, none of
    which is used; and how many streams of several banks share an id with others."""

    titles: dict[int, str] = field(default_factory=dict)
    unknown: list[str] = field(default_factory=list)
    doubled: list[str] = field(default_factory=list)
    shared: int = 0


def read_table(data: bytes, name: str = "") -> Table:
    """A table of text: UTF-8 or UTF-16 with a mark, UTF-8, else Windows-1252; cells between tabs, semicolons, commas or bars,
    quoted as in RFC 4180. ZubretError where it is too large or has no two columns."""
    if len(data) > LARGEST:
        raise ZubretError(f"The table is larger than {LARGEST >> 20} MiB.", file=name, next="Cut it into parts.")
    text, encoding = _decoded(data)
    lines = [line for line in text.splitlines() if line.strip()][:50]
    separator = max(SEPARATORS, key=lambda sign: (sum(line.count(sign) > 0 for line in lines), -SEPARATORS.index(sign)))
    rows = [
        row for row in csv.reader(io.StringIO(text, newline=""), delimiter=separator) if any(c.strip() for c in row)
    ]
    if not rows or max(map(len, rows)) < 2:
        raise ZubretError(
            "This is no table of two columns.", file=name,
            next="Write an id and a title on each line, with a tab, a comma or a semicolon between them.",
        )  # fmt: skip
    first = [cell.strip().lower() for cell in rows[0]]
    head = any(cell in (*IDS, *TITLES, *BANKS) for cell in first) and not any(
        re.fullmatch(r"[0-9a-f]*\d[0-9a-f]*", c) for c in first
    )
    return Table(rows, head, encoding, separator)


def _decoded(data: bytes) -> tuple[str, str]:
    marks = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
    tries = [encoding for mark, encoding in marks if data.startswith(mark)] or ["utf-8", "cp1252", "latin-1"]
    for encoding in tries:
        try:
            return data.decode(encoding).replace("\0", ""), encoding
        except UnicodeDecodeError:
            continue
    raise ZubretError("The table's text is damaged.", next="Save it anew as UTF-8.")


def match(
    table: Table,
    streams: Iterable[tuple[int, str, str]],
    id_column: int,
    title_column: int,
    bank_column: int | None = None,
) -> Matched:
    """Which stream gets which title. streams: number, id and bank of each. An id is compared as it stands; where no stream has
    it so, without leading zeros, too. A bank, where the table has one, is compared without folders and ending."""
    out = Matched()
    wanted: dict[tuple[str, str], str] = {}
    doubled: dict[tuple[str, str], None] = {}
    for row in table.body:
        key, title = (_bank(_cell(row, bank_column)), _cell(row, id_column)), _cell(row, title_column)
        if not key[1] or not title:
            continue
        if wanted.setdefault(key, title) != title:
            doubled[key] = None
    out.doubled = list(dict.fromkeys(key[1] for key in doubled))
    for key in doubled:
        del wanted[key]
    by_id: dict[str, list[tuple[int, str]]] = {}
    plain: dict[str, list[tuple[int, str]]] = {}
    for number, stream_id, bank in streams:
        by_id.setdefault(stream_id.lower(), []).append((number, _bank(bank)))
        plain.setdefault(_plain(stream_id), []).append((number, _bank(bank)))
    for (bank, stream_id), title in wanted.items():
        found = by_id.get(stream_id.lower()) or plain.get(_plain(stream_id), [])
        found = [one for one in found if not bank or one[1] == bank]
        if not found:
            out.unknown.append(stream_id)
        out.shared += len(found) if len(found) > 1 else 0
        out.titles.update((number, title) for number, _ in found)
    return out


def _cell(row: list[str], column: int | None) -> str:
    """A cell's text, without the sign that keeps table programs from taking it for a formula."""
    text = row[column].strip() if column is not None and column < len(row) else ""
    return text[1:] if text[:1] == "'" and text[1:2] in ("=", "+", "-", "@") else text


def _bank(name: str) -> str:
    name = name.replace("\\", "/").rpartition("/")[2].lower()
    return name.rpartition(".")[0] or name


def _plain(stream_id: str) -> str:
    """An id without leading zeros, where it is a number."""
    return stream_id.lstrip("0") or "0" if stream_id.isdigit() else stream_id.lower()
