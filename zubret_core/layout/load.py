"""From the text of a layout to its model, with the line of every fault.

The text is YAML 1.2 read by the JSON-like rules of its core schema (YAML 1.2.2, section 10.3)
with one difference: digits with a leading zero stay text, so that an id such as 0246 is kept.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterator
from typing import Any

from pydantic import ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from ..base import ZubretError
from .expression import compiled
from .model import KNOWN_KEYS, Layout, ties_of

LARGEST = 1 << 20
"""Bytes of layout text that are read at most."""

_INT = re.compile(r"[-+]?(0|[1-9][0-9]*)$|0x[0-9a-fA-F]+$")
_FLOAT = re.compile(r"[-+]?[0-9]+\.[0-9]+$")
_WORDS = {"true": True, "false": False, "null": None, "~": None, "": None}
_Path = tuple[str | int, ...]


def load_layout(text: str, file: str = "layout") -> Layout:
    """The layout that `text` describes; a ZubretError names the line of the first fault."""
    lines: dict[_Path, int] = {}

    def fail(line: int, what: str) -> ZubretError:
        return ZubretError(what, file=file, field=f"line {line}", next="Correct this line of the layout.")

    if len(text) > LARGEST:
        raise fail(1, f"A layout has at most {LARGEST:,} characters.")
    try:
        node = YAML(typ="safe", pure=True).compose(text)
    except MarkedYAMLError as e:
        line = e.problem_mark.line + 1 if e.problem_mark else 1
        raise fail(line, f"This is not YAML: {e.problem or e.context}.") from e
    except RecursionError as e:
        raise fail(1, "The layout is nested too deeply.") from e
    if node is None:
        raise fail(1, "The layout is empty.")
    try:
        data = _plain(node, (), lines, set())
        layout = Layout.model_validate(data)
    except _Fault as e:
        raise fail(e.line, e.what) from e
    except ValidationError as e:
        first = e.errors()[0]
        where = _known(tuple(first["loc"]), lines)
        if len(where) <= 2:
            where = max(where, _named(str(first["msg"]), data, lines), key=len)
        raise fail(lines.get(where, 1), _worded(first, where)) from e
    _check_names(layout, lines, fail)
    return layout


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
    """The place of a fault that is found when a layout is whole, from the names in its message.

    A field of a region, else a region, else the first value that the message quotes, else the first key it speaks of.
    """
    field = re.search(r"\bfield (\w+) of region (\w+)", message)
    quoted = re.search(r'"([^"]+)"', message)
    for path, value in _scalars(data, ()):
        if path[0] == "regions" and path[2:] == ("name",) and field and value == field[2]:
            in_region = [
                p for p, v in _scalars(data["regions"][path[1]], path[:2]) if p[-1] == "name" and v == field[1]
            ]
            return in_region[-1][:4] if in_region else path[:2]
        if path[0] == "regions" and path[2:] == ("name",) and not field and f"region {value}" in message:
            return path[:2]
    for path, value in _scalars(data, ()):
        if quoted and value == quoted[1]:
            return path
    keys = [k for k in ("recognise", "payload", "keys", "files", "methods") if k in message]
    return next(((k,) for k in [*keys, *(["regions"] if "mean" in message else [])] if (k,) in lines), ())


def _scalars(data: Any, path: _Path) -> Iterator[tuple[_Path, Any]]:
    """Every scalar of a layout as it was written, with its path."""
    if isinstance(data, dict | list):
        for key, value in data.items() if isinstance(data, dict) else enumerate(data):
            yield from _scalars(value, (*path, key))
    else:
        yield path, data


def _worded(error: Any, where: _Path) -> str:
    """One sentence for one pydantic error, with a suggestion for a misspelt key."""
    name = error["loc"][-1] if error["loc"] else "layout"
    if error["type"] == "extra_forbidden":
        near = difflib.get_close_matches(str(name), KNOWN_KEYS, 1)
        return f'"{name}" is not known here.' + (f' Did you mean "{near[0]}"?' if near else "")
    if error["type"] == "missing":
        return f'"{name}" is missing here.'
    message = str(error["msg"]).removeprefix("Value error, ")
    place = ".".join(str(step) for step in where if not isinstance(step, int))
    return f"{place}: {message}." if place and "region" not in message else f"{message[0].upper()}{message[1:]}."


BUILT_IN = {"file.size", "region.at", "record.at", "record.index"}
"""Names that have a value in every layout."""


def _check_names(layout: Layout, lines: dict[_Path, int], fail: Callable[[int, str], ZubretError]) -> None:
    """Every name in an expression is a field that has been read when the expression is worked out."""
    once: set[str] = {"file.size"}
    for r, region in enumerate(layout.regions):
        path: _Path = ("regions", r)
        own: set[str] = set()
        inside: list[tuple[int | str | None, _Path, set[str]]] = [
            (region.when, (*path, "when"), once),
            (region.at, (*path, "at"), once),
            (region.repeat, (*path, "repeat"), once),
            (region.size, (*path, "size"), once),
        ]
        for f, field in enumerate(region.fields):
            inside.append((field.when, (*path, "fields", f), once | own))
            for tie in (field, *(field.parts or ())):
                inside += [(text, (*path, "fields", f), once | BUILT_IN) for text in (tie.unit, tie.base)]
            own = own | {t.name for t in (field, *(field.parts or ())) if field.integer or field.type == "varint"}
        if region.until not in ("end", "zero"):
            inside.append((region.until, (*path, "until"), once | own))
        for text, at, known in inside:
            for name in compiled(text).names if text is not None else ():
                if name not in known:
                    near = difflib.get_close_matches(name, known, 1)
                    hint = f' Did you mean "{near[0]}"?' if near else ""
                    line = lines.get(at, lines.get(path, 1))
                    raise fail(line, f'"{name}" is not a field of an earlier region that stands once.{hint}')
        if region.once:
            once = once | {f"{region.name}.{tie.name}" for tie in ties_of(region)}
