"""From the text of a layout, or of load rules, to its model, with the line of every fault.

The text is YAML 1.2 read by the JSON-like rules of its core schema (YAML 1.2.2, section 10.3)
with one difference: digits with a leading zero stay text, so that an id such as 0246 is kept. What is a key, a list or a scalar,
libyaml says, which is twenty times faster than a reader in Python; what a scalar means is decided here.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from functools import cache
from typing import Any

import yaml
from pydantic import ValidationError
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode
from yaml.reader import ReaderError

from ...base import ZubretError
from ..language.keys import PLACES_OF_KEYS
from ..language.load_rules import LoadRules
from ..language.schema import Layout
from .of_games import faults_of_rules
from .reuse import Others, Unusable, expanded, others_among
from .rules import faults_of
from .texts import shipped_texts

LARGEST = 1 << 17
"""Characters of layout text that are read at most: some seconds' worth, and more than any format needs."""

DIGITS = 40
"""Digits that a number has at most; none that a format could store has more."""

_INT = re.compile(r"[-+]?(0|[1-9][0-9]*)$|0x[0-9a-fA-F]+$")
_FLOAT = re.compile(r"[-+]?[0-9]+\.[0-9]+$")
_WORDS = {"true": True, "false": False, "null": None, "~": None, "": None}
_Path = tuple[str | int, ...]


def load_layout(text: str, file: str = "layout", others: Others | None = None) -> Layout:
    """The layout that `text` describes; a ZubretError names the line of the first fault."""
    found = load(text, file, others)
    if isinstance(found, LoadRules):
        raise _problem(file, 1, "These are the load rules of a game, and no layout of a file.")
    return found


def load_rules(text: str, file: str = "load rules") -> LoadRules:
    """The load rules that `text` gives; a ZubretError names the line of the first fault."""
    found = load(text, file)
    if isinstance(found, Layout):
        raise _problem(file, 1, "This is the layout of a file, and no load rules of a game.")
    return found


def load(text: str, file: str = "layout", others: Others | None = None) -> Layout | LoadRules:
    """What a text of the language describes: files of a format, or a kind of game. others: gives the texts of layouts that it
    uses, besides those that ship with Zubret."""
    lines: dict[_Path, int] = {}

    def fail(line: int, what: str) -> ZubretError:
        return _problem(file, line, what)

    model: type[Layout] | type[LoadRules] = Layout
    try:
        data = expanded(_data(text, lines, fail), lines, _with_shipped(others), _other)
        model = _kind(data, lines)
        found = model.model_validate(data)
    except Unusable as e:
        raise fail(lines.get(_known(e.path, lines), 1), f"{e.what[0].upper()}{e.what[1:]}.") from e
    except _Fault as e:
        raise fail(e.line, e.what) from e
    except ValidationError as e:
        first = min(e.errors(), key=lambda error: error["type"] != "extra_forbidden")  # a misspelt key is missed, too
        where = _known(tuple(first["loc"]), lines)
        if len(where) <= 2:
            where = max(where, _named(str(first["msg"]), data, lines), key=len)
        raise fail(lines.get(where, 1), _worded(first, where, PLACES_OF_KEYS[model])) from e
    for place, message in faults_of(found) if isinstance(found, Layout) else faults_of_rules(found):
        raise fail(lines.get(_known(place, lines), 1), _ruled(place, message, lines))
    return found


def _with_shipped(others: Others | None) -> Others:
    """What gives the texts of layouts by id: those of the caller's, then those that ship with Zubret."""

    def text_of(id: str) -> str | None:
        found = others(id) if others is not None else None
        return found if found is not None else _shipped()(id)

    return text_of


@cache
def _shipped() -> Others:
    return others_among(shipped_texts().values())


def _other(text: str, id: str) -> dict[str, Any]:
    """The data of another layout's text."""

    def fail(line: int, what: str) -> ZubretError:
        return _problem(id, line, what)

    try:
        return _data(text, {}, fail)
    except _Fault as e:
        raise fail(e.line, e.what) from e


def _data(text: str, lines: dict[_Path, int], fail: Callable[[int, str], ZubretError]) -> dict[str, Any]:
    """A text as dicts, lists and scalars."""
    if len(text) > LARGEST:
        raise fail(1, f"A layout has at most {LARGEST:,} characters.")
    try:
        node = yaml.compose(text, Loader=yaml.CSafeLoader)
    except yaml.MarkedYAMLError as e:
        line = e.problem_mark.line + 1 if e.problem_mark else 1
        raise fail(line, f"This is not YAML: {e.problem or e.context}.") from e
    except ReaderError as e:
        line = text.encode("utf-8")[: int(e.position)].count(b"\n") + 1
        raise fail(line, f"The character U+{int(e.character):04X} can't stand in a layout.") from e
    except UnicodeEncodeError as e:
        line = text.count("\n", 0, e.start) + 1
        raise fail(line, f"The character U+{ord(text[e.start]):04X} can't stand in a layout.") from e
    if node is None:
        raise fail(1, "The layout is empty.")
    if not isinstance(node, MappingNode):
        raise fail(1, "A layout is a list of keys with values; it begins with `zubret: 1`.")
    data: dict[str, Any] = _plain(node, (), lines, set())
    return data


def _problem(file: str, line: int, what: str) -> ZubretError:
    return ZubretError(what, file=file, field=f"line {line}", next="Correct this line of the layout.")


def _kind(data: Any, lines: dict[_Path, int]) -> type[Layout] | type[LoadRules]:
    """What `describes` says; a fault where it is a word that nothing has."""
    said = data.get("describes")
    kinds = ["archive", "bank", "stream", "list", "table", "game"]
    if "describes" in data and said not in kinds:
        near = difflib.get_close_matches(str(said), kinds, 1)
        hint = f' Did you mean "{near[0]}"?' if near else ""
        raise _Fault(lines["describes",], f'describes: "{said}" is not one of {", ".join(kinds)}.{hint}')
    return LoadRules if said == "game" else Layout


class _Fault(Exception):
    def __init__(self, line: int, what: str):
        self.line, self.what = line, what


def _plain(node: Node, path: _Path, lines: dict[_Path, int], open_nodes: set[int]) -> Any:
    """A YAML node as dicts, lists and scalars; remembers the line of each path."""
    lines[path] = node.start_mark.line + 1
    if id(node) in open_nodes:
        raise _Fault(lines[path], "An alias that contains itself has no end.")
    if len(lines) > 100_000:
        raise _Fault(lines[path], "The layout has too many parts.")
    if isinstance(node, ScalarNode):
        return _scalar(node)
    open_nodes = open_nodes | {id(node)}
    if isinstance(node, SequenceNode):
        return [_plain(n, (*path, i), lines, open_nodes) for i, n in enumerate(node.value)]
    assert isinstance(node, MappingNode)
    out: dict[Any, Any] = {}
    for key_node, value_node in node.value:
        key = _scalar(key_node) if isinstance(key_node, ScalarNode) else None
        if key is None or isinstance(key, bool | float):
            raise _Fault(key_node.start_mark.line + 1, "A key must be a word or a whole number.")
        if key in out:
            raise _Fault(key_node.start_mark.line + 1, f'"{key}" stands twice here.')
        out[key] = _plain(value_node, (*path, key), lines, open_nodes)
        lines[(*path, key)] = key_node.start_mark.line + 1
    return out


def _scalar(node: ScalarNode) -> Any:
    text = node.value
    if node.style in ("'", '"', "|", ">"):
        return text
    if text.lower() in _WORDS:
        return _WORDS[text.lower()]
    if _INT.match(text):
        if len(text) > DIGITS:
            raise _Fault(node.start_mark.line + 1, "This number is too long.")
        return int(text, 16) if text.startswith("0x") else int(text)
    return float(text) if _FLOAT.match(text) else text


def _known(loc: tuple, lines: dict[_Path, int]) -> _Path:
    """The longest part of a pydantic location that stands in the text."""
    path: _Path = ()
    for step in loc:
        if (*path, step) in lines:
            path = (*path, step)
    return path


def _named(message: str, data: Any, lines: dict[_Path, int]) -> _Path:
    """The place of a fault of a whole region, or of the whole layout, from the names in its message."""
    regions = data.get("regions") if isinstance(data, dict) else None
    for n, region in enumerate(regions if isinstance(regions, list) else ()):
        if isinstance(region, dict) and f"region {region.get('name')} " in message:
            return ("regions", n)
    return ("recognise",) if "recognise" in message and ("recognise",) in lines else ()


def _worded(error: Any, where: _Path, keys: dict[str, list[str]]) -> str:
    """One sentence for one pydantic error, with a suggestion for a misspelt key."""
    name = error["loc"][-1] if error["loc"] else "layout"
    if error["type"] == "extra_forbidden":
        if places := keys.get(str(name)):
            return f'"{name}" can\'t stand here; it belongs to {" or ".join(places)}.'
        near = difflib.get_close_matches(str(name), sorted(keys), 1)
        return f'"{name}" is not known here.' + (f' Did you mean "{near[0]}"?' if near else "")
    if error["type"] == "missing":
        return f'"{name}" is missing here.'
    message = str(error["msg"]).removeprefix("Value error, ")
    place = ".".join(str(step) for step in where if not isinstance(step, int))
    return f"{place}: {message}." if place and "region" not in message else f"{message[0].upper()}{message[1:]}."


def _ruled(place: _Path, message: str, lines: dict[_Path, int]) -> str:
    """A rule's sentence, with the line of the second place that it speaks of."""
    for path, line in lines.items():
        message = message.replace(f"{{{path}}}", f"line {line}")
    message = f"{message[0].upper()}{message[1:]}"
    return message if message.endswith(("?", ".")) else f"{message}."
