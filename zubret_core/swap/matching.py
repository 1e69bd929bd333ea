"""Which file of a dropped folder is meant for which stream: by a template, by ids, by names, or by their order."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from ..base.languages import language_names
from ..base.template import normal
from ..base.template import template as pattern_of

BY_TEMPLATE, BY_ID, BY_NAME, BY_ORDER = "template", "id", "name", "order"


@dataclass(frozen=True)
class Place:
    """A stream for which a file may be meant; number: whose it is."""

    number: int
    id: str
    name: str
    bank: str
    language: str


@dataclass
class Matches:
    """found: for each file, by its place among them, the number of its stream, and how it was found. doubtful: files for which
    several streams are meant, with these; doubled: streams for which several files are meant, with these; left: files for
    which there is none; without: streams for which there is none."""

    found: dict[int, tuple[int, str]] = field(default_factory=dict)
    doubtful: dict[int, list[int]] = field(default_factory=dict)
    doubled: dict[int, list[int]] = field(default_factory=dict)
    left: list[int] = field(default_factory=list)
    without: list[int] = field(default_factory=list)


def match_files(paths: Sequence[str], places: Sequence[Place], template: str = "", by_order: bool = False) -> Matches:
    """paths: of files below the folder that was dropped. A template such as "{language}/{id}_*" says what of a path is what;
    without one, an id or a name is looked for in it, and a language, too, where an id alone does not tell. ZubretError for a
    template that can't be."""
    if by_order:
        return _settled(_in_order(paths, places), len(paths), places)
    meant = _by_template(template, places) if template.strip() else _by_itself(places)
    return _settled({n: meant(_plain_path(path)) for n, path in enumerate(paths)}, len(paths), places)


Meant = dict[int, tuple[list[int], str]]
"""For files by their places, the streams that may be meant, and how that is known."""


def _in_order(paths: Sequence[str], places: Sequence[Place]) -> Meant:
    order = sorted(range(len(paths)), key=lambda n: _natural(paths[n]))
    return {n: ([place.number], BY_ORDER) for n, place in zip(order, places, strict=False)}


def _settled(meant: Meant, count: int, places: Sequence[Place]) -> Matches:
    out = Matches()
    files: dict[int, list[int]] = defaultdict(list)
    for n in range(count):
        streams, _ = meant.get(n, ([], ""))
        if not streams:
            out.left.append(n)
        elif len(streams) > 1:
            out.doubtful[n] = streams
        else:
            files[streams[0]].append(n)
    for stream, some in files.items():
        if len(some) > 1:
            out.doubled[stream] = some
        else:
            out.found[some[0]] = stream, meant[some[0]][1]
    taken = {*files, *(s for streams in out.doubtful.values() for s in streams)}
    out.without = [place.number for place in places if place.number not in taken]
    return out


def _by_itself(places: Sequence[Place]) -> Callable[[str], tuple[list[int], str]]:
    ids, names = _index(places, lambda p: (p.id, _digits(p.id))), _index(places, lambda p: (_stem(p.name),))
    marks = {place.number: language_names(place.language) | set(_pieces(normal(place.bank))) for place in places}

    def meant(path: str) -> tuple[list[int], str]:
        stem = path.rpartition("/")[2]
        for found, way in ((names.get(stem), BY_NAME), (ids.get(stem), BY_ID)):
            if found:
                return _told_apart(path, found, marks), way
        pieces = _pieces(stem)
        found = [n for piece in pieces for n in ids.get(piece, ())] or [
            n for piece in pieces for n in ids.get(_digits(piece), ())
        ]
        return _told_apart(path, list(dict.fromkeys(found)), marks), BY_ID

    return meant


def _told_apart(path: str, found: list[int], marks: dict[int, frozenset[str]]) -> list[int]:
    """Of several streams those whose language or bank is named in a path, by what not all of them have."""
    if len(found) < 2:
        return found
    common = frozenset.intersection(*(marks[n] for n in found))
    there = frozenset(_pieces(path)) - common
    named = [n for n in found if marks[n] & there]
    return named or found


def _by_template(template: str, places: Sequence[Place]) -> Callable[[str], tuple[list[int], str]]:
    pattern = pattern_of(template)
    indexes = {
        "id": _index(places, lambda p: (p.id, _digits(p.id))),
        "name": _index(places, lambda p: (_stem(p.name),)),
        "bank": _index(places, lambda p: (_stem(p.bank), _stem(p.bank).rpartition(".")[0])),
        "language": _index(places, lambda p: language_names(p.language)),
        "number": {str(n): [place.number] for n, place in enumerate(places, 1)},
    }

    def meant(path: str) -> tuple[list[int], str]:
        fits = pattern.fullmatch(path)
        if fits is None:
            return [], BY_TEMPLATE
        found: list[int] | None = None
        for part, text in fits.groupdict().items():
            index = indexes[part]
            some = index.get(text) or (index.get(_digits(text)) if part in ("id", "number") else None) or []
            found = some if found is None else [n for n in found if n in set(some)]
        return list(dict.fromkeys(found or [])), BY_TEMPLATE

    return meant


def _index(places: Iterable[Place], keys: Callable[[Place], Iterable[str]]) -> dict[str, list[int]]:
    out: dict[str, list[int]] = defaultdict(list)
    for place in places:
        for key in dict.fromkeys(normal(key) for key in keys(place) if key):
            out[key].append(place.number)
    return dict(out)


def _plain_path(path: str) -> str:
    """A path as it is compared: without its ending."""
    return _stem(path.replace("\\", "/"), folders=True)


def _stem(path: str, folders: bool = False) -> str:
    folder, _, name = normal(path).replace("\\", "/").rpartition("/")
    stem = re.sub(r"\.(wav|wave|aif|aiff|flac|ogg|oga|opus|mp3)$", "", name)
    return f"{folder}/{stem}" if folders and folder else stem


def _pieces(text: str) -> list[str]:
    """What stands between the signs of a path."""
    return [piece for piece in re.split(r"[\W_]+", text) if piece]


def _digits(text: str) -> str:
    """A number without leading zeros; anything else as it is."""
    return text.lstrip("0") or "0" if text.isdecimal() else text


def _natural(path: str) -> list[tuple[int, int, str]]:
    """For sorting: numbers by their values, in any script."""
    return [
        (0, int(piece), "") if piece.isdecimal() else (1, 0, piece)
        for piece in re.split(r"(\d+)", normal(path))
        if piece
    ]
