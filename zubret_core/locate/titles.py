"""A table of ids, titles and spoken texts, as modders keep them and as games have them: read from a file in any usual spelling or by
a layout, and matched with streams."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field

from ..base import ZubretError
from ..base.languages import language_names
from ..base.template import normal, template
from ..layout import Layout, read_layout
from ..source import Source
from .known import Known
from .names import Ids
from .recognise import kind_of

LARGEST = 8 << 20
"""Bytes of a table at most."""
SEPARATORS = "\t;,|"
IDS = ("id", "number", "no", "nr", "#", "index", "stream", "key", "hash")
TITLES = ("title", "name", "track", "caption")
TEXTS = ("text", "line", "subtitle", "dialogue", "dialog", "spoken")
BANKS = ("bank", "file", "soundbank")
LANGUAGES = ("language", "lang", "locale")
"""Words that stand above such a column; common practice."""
NAMES = "\n"
"""The separator of a list that has a name on each line, and no more."""
SHOWN = 20
"""Ids of each kind that are listed."""


@dataclass(frozen=True)
class Table:
    """Rows of cells; head: whether the first one names the columns. encoding, separator: as they were found;
    of one that a layout reads, that layout, and none; of names alone (NAMES), each stands twice in its row."""

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


@dataclass(frozen=True)
class Columns:
    """Which column of a table holds what, counted from 0; None: there is none."""

    id: int
    title: int | None = None
    text: int | None = None
    bank: int | None = None
    language: int | None = None

    @classmethod
    def of(cls, table: Table) -> Columns:
        """As a table's head tells; without one, ids and titles, or in lines of `key=text` texts."""
        at = table.column(IDS)
        at = 0 if at is None else at
        words = {"title": TITLES, "text": TEXTS, "bank": BANKS, "language": LANGUAGES}
        found = {name: table.column(some) for name, some in words.items()}
        if found["title"] is None and found["text"] is None:
            found["text" if table.separator == "=" else "title"] = 1 if at == 0 else 0
        return cls(at, **found)


_ROW = ("id", "title", "text", "bank", "language")
_KEYED = re.compile(r"\s*[\w.:\-]+\s*=")
"""How a line of `key=text` begins; common practice in games' tables of texts."""
_PASSED = re.compile(r"\s*(#|;|//|\[.*\]\s*$)")
"""A comment, or a heading, between such lines."""


@dataclass
class Matched:
    """Titles and texts by the streams' numbers, each empty where the table has none; ids of the table that no stream has; ids that
    stand there with several, none of which is used; and how many streams of several banks share an id with others."""

    said: dict[int, tuple[str, str]] = field(default_factory=dict)
    unknown: list[str] = field(default_factory=list)
    doubled: list[str] = field(default_factory=list)
    shared: int = 0


def table_of(source: Source, known: Known, names: bool = False) -> Table:
    """A table of a game's own: by the layout of a table that recognises it, else as text (`read_table`). ZubretError where it is
    neither."""
    kind = kind_of(source, known)
    if kind is not None and kind.layout is not None and kind.layout.describes == "table":
        return _described(source, kind.layout)
    if source.size > LARGEST:
        raise _too_large(source.name)
    return read_table(source.read(0, source.size), source.name, names)


def _described(source: Source, layout: Layout) -> Table:
    document = read_layout(layout, source)
    columns = {name: document.column(name) for name in _ROW}
    held = {name: [str(cell) for cell in column] for name, column in columns.items() if column is not None}
    rows = [list(row) for row in zip(*held.values(), strict=True)]
    return Table([list(held), *rows], True, layout.title or layout.id, "")


def read_table(data: bytes, name: str = "", names: bool = False) -> Table:
    """A table of text: UTF-8 or UTF-16 with a mark, UTF-8, else Windows-1252; cells between tabs, semicolons, commas or bars,
    quoted as in RFC 4180; or lines of `key=text`; or, where `names` may stand alone, one on each line. ZubretError where it is too
    large or has no two columns."""
    if len(data) > LARGEST:
        raise _too_large(name)
    text, encoding = _decoded(data)
    lines = [line for line in text.splitlines() if line.strip()]
    said = [line for line in lines if not _PASSED.match(line)]
    if said and all(map(_KEYED.match, said)):
        return Table([[cell.strip() for cell in line.split("=", 1)] for line in said], False, encoding, "=")
    few = lines[:50]
    separator = max(SEPARATORS, key=lambda sign: (sum(line.count(sign) > 0 for line in few), -SEPARATORS.index(sign)))
    rows = [
        row for row in csv.reader(io.StringIO(text, newline=""), delimiter=separator) if any(c.strip() for c in row)
    ]
    if names and said and max(map(len, rows)) < 2:
        return Table([[line.strip()] * 2 for line in said], False, encoding, NAMES)
    if not rows or max(map(len, rows)) < 2:
        raise ZubretError(
            "This is no table of two columns.", file=name,
            next="Write an id and a title or a text on each line, with a tab, a comma or a semicolon between them.",
        )  # fmt: skip
    first = [cell.strip().lower() for cell in rows[0]]
    head = any(cell in (*IDS, *TITLES, *TEXTS, *BANKS, *LANGUAGES) for cell in first) and not any(
        re.fullmatch(r"[0-9a-f]*\d[0-9a-f]*", c) for c in first
    )
    return Table(rows, head, encoding, separator)


def _too_large(name: str) -> ZubretError:
    return ZubretError(f"The table is larger than {LARGEST >> 20} MiB.", file=name, next="Cut it into parts.")


def _decoded(data: bytes) -> tuple[str, str]:
    marks = ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
    tries = [encoding for mark, encoding in marks if data.startswith(mark)] or ["utf-8", "cp1252", "latin-1"]
    for encoding in tries:
        try:
            return data.decode(encoding).replace("\0", ""), encoding
        except UnicodeDecodeError:
            continue
    raise ZubretError("The table's text is damaged.", next="Save it anew as UTF-8.")


@dataclass(frozen=True)
class Called:
    """A stream as a table may name it."""

    number: int
    id: str
    name: str
    bank: str
    language: str


def match(
    table: Table, streams: Iterable[Called], columns: Columns, written: str = "", hashed: Collection[Ids] = ()
) -> Matched:
    """Which stream is said what. written: a template by which ids are written, as "LINE_{id}" or "{language}/{name}"; ZubretError
    for one that can't be. An id is compared as it stands; where no stream has it so, without leading zeros; where none has
    it, with the streams' names, then as a name whose hash is an id, by `hashed`. A bank and a name are compared without folders and
    ending."""
    out = Matched()
    wanted: dict[tuple[str, str, str], tuple[str, str]] = {}
    doubled: dict[tuple[str, str, str], None] = {}
    pattern = template(written, ("id", "name", "bank", "language")) if written.strip() else None
    for row in table.body:
        key = _bank(_cell(row, columns.bank)), _cell(row, columns.language).lower(), _cell(row, columns.id)
        if pattern is not None:
            fits = pattern.fullmatch(normal(key[2]))
            if fits is None:
                out.unknown.append(key[2])
                continue
            parts = fits.groupdict()
            id = parts.get("id") or parts.get("name") or ""
            key = _bank(parts.get("bank") or "") or key[0], parts.get("language") or key[1], id
        said = _cell(row, columns.title), _cell(row, columns.text)
        if not key[2] or not any(said):
            continue
        if wanted.setdefault(key, said) != said:
            doubled[key] = None
    out.doubled = list(dict.fromkeys(key[2] for key in doubled))
    for key in doubled:
        del wanted[key]
    ways: tuple[dict[str, list[Called]], ...] = ({}, {}, {})
    for one in streams:
        for way, text in zip(ways, (one.id.lower(), _plain(one.id), _bank(one.name)), strict=True):
            way.setdefault(text, []).append(one)
    for (bank, language, wanted_id), said in wanted.items():
        keys = zip(ways, (wanted_id.lower(), _plain(wanted_id), _bank(wanted_id)), strict=True)
        found = next((way[text] for way, text in keys if text in way), [])
        found = found or [one for ids in hashed for one in ways[0].get(ids.of(wanted_id), ())]
        found = [
            one
            for one in found
            if (not bank or _bank(one.bank) == bank) and (not language or language in language_names(one.language))
        ]
        if not found:
            out.unknown.append(wanted_id)
        out.shared += len(found) if len(found) > 1 else 0
        out.said.update((one.number, said) for one in found)
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
