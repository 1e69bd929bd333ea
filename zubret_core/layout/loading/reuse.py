"""Layouts that are written with others: `use` takes what another has, `set` gives its parameters, what stands in the text itself
comes first. All is done before the text is looked at as a layout, so that what comes out is a layout like any other."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import Any

Path = tuple[str | int, ...]
Others = Callable[[str], str | None]
"""The text of another layout by its id; None where there is none."""
DEEPEST = 8
"""Layouts that use each other at most."""
WORDS = ("use", "set", "without", "parameters")
_ID = re.compile(r"^id:\s*([a-z0-9][a-z0-9-]*)\s*$", re.M)
_NAME = re.compile(r"\$([a-z][a-z0-9_]*)")


class Unusable(Exception):
    """A use that can't be: its place in the text, and why."""

    def __init__(self, path: Path, what: str):
        super().__init__(what)
        self.path, self.what = path, what


def others_among(texts: Iterable[str]) -> Others:
    """What gives the texts of layouts by their ids."""
    known = {found[1]: text for text in texts if (found := _ID.search(text))}
    return known.get


def uses_others(text: str) -> bool:
    """Whether a text may be written with another one's."""
    return re.search(r"\buse:", text) is not None


Parse = Callable[[str, str], dict[str, Any]]
"""Another text's data, by the text and its id."""


def expanded(data: dict[str, Any], lines: dict[Path, int], others: Others, parse: Parse) -> dict[str, Any]:
    """A text's data with all that it uses put in, and `lines` as the new places are."""
    if not (any(word in data for word in WORDS) or _has_use(data)):
        return data
    out, values = _merged(data, lines, others, parse, ())
    return {k: _put(v, values, (k,)) for k, v in out.items()}


def _merged(
    data: dict[str, Any], lines: dict[Path, int], others: Others, parse: Parse, around: tuple[str, ...]
) -> tuple[dict[str, Any], dict[str, Any]]:
    """The same before parameters are put in, and the parameters with their values."""

    def taken(id: Any, path: Path) -> tuple[dict[str, Any], dict[str, Any]]:
        if len(around) >= DEEPEST or id in around:
            raise Unusable(path, f'"{id}" is used by itself, or {DEEPEST} layouts deep')
        text = others(str(id))
        if text is None:
            raise Unusable(path, f'there is no layout with the id "{id}" to be used')
        try:
            return _merged(parse(text, str(id)), {}, others, parse, (*around, str(id)))
        except Unusable as e:
            raise Unusable(path, f'in the layout "{id}", {e.what}') from e

    out = {k: v for k, v in data.items() if k not in WORDS}
    values: dict[str, Any] = {}
    regions: list[Any] = []
    if "use" in data:
        base, values = taken(data["use"], ("use",))
        for name in data.get("set") or {}:
            if name not in values:
                raise Unusable(("set", name), f'"{name}" is no parameter of "{data["use"]}"')
        out = {**{k: v for k, v in base.items() if k not in ("id", "title")}, **out}
        regions = list(base.get("regions") or [])
    elif "set" in data or "without" in data:
        raise Unusable(("set" if "set" in data else "without",), "it needs `use`: the id of another layout")
    values = {**values, **(data.get("parameters") or {}), **(data.get("set") or {})}
    places: list[int | None] = [None] * len(regions)
    for n, region in enumerate(data.get("regions") or []):
        if isinstance(region, dict) and "use" in region:
            region, more = _region(region, n, taken)
            values = {**more, **values}
        at = _place(regions, region.get("name") if isinstance(region, dict) else None)
        if at is None:
            regions.append(region)
            places.append(n)
        else:
            regions[at], places[at] = region, n
    for name in data.get("without") or ():
        at = _place(regions, name)
        if at is None:
            raise Unusable(("without",), f'there is no region "{name}" that could be left out')
        del regions[at], places[at]
    if regions or "regions" in data:
        out["regions"] = regions
    _renumber(lines, places, lines.get(("use",), 1))
    return out, values


def _region(
    region: dict[str, Any], n: int, taken: Callable[[Any, Path], tuple[dict[str, Any], dict[str, Any]]]
) -> tuple[dict[str, Any], dict[str, Any]]:
    """A region of another layout, with what is said of it here; and that layout's parameters."""
    layout, _, name = str(region["use"]).partition(".")
    theirs, values = taken(layout, ("regions", n))
    at = _place(theirs.get("regions") or [], name)
    if at is None:
        raise Unusable(("regions", n), f'there is no region "{region["use"]}" to be used; write layout.region')
    return {**theirs["regions"][at], **{k: v for k, v in region.items() if k != "use"}}, values


def _place(regions: list[Any], name: Any) -> int | None:
    """The number of a region by its name."""
    return next((n for n, r in enumerate(regions) if name and isinstance(r, dict) and r.get("name") == name), None)


def _has_use(data: dict[str, Any]) -> bool:
    regions = data.get("regions")
    return isinstance(regions, list) and any(isinstance(r, dict) and "use" in r for r in regions)


def _renumber(lines: dict[Path, int], places: list[int | None], line: int) -> None:
    """The lines of regions by their new numbers; of those of another text, the line that uses it."""
    old = {path: number for path, number in lines.items() if path[:1] == ("regions",) and len(path) > 1}
    for path in old:
        del lines[path]
    for n, was in enumerate(places):
        lines["regions", n] = line
        if was is not None:
            lines.update({("regions", n, *path[2:]): number for path, number in old.items() if path[1] == was})


def _put(value: Any, values: dict[str, Any], path: Path) -> Any:
    """A value with the parameters that it names."""
    if isinstance(value, dict):
        return {k: _put(v, values, (*path, k)) for k, v in value.items()}
    if isinstance(value, list):
        return [_put(v, values, (*path, n)) for n, v in enumerate(value)]
    if not isinstance(value, str) or "$" not in value:
        return value
    for name in _NAME.findall(value):
        if name not in values:
            raise Unusable(path, f'"${name}" is no parameter; there are {", ".join(sorted(values)) or "none"}')
    whole = _NAME.fullmatch(value)
    return values[whole[1]] if whole else _NAME.sub(lambda found: str(values[found[1]]), value)
