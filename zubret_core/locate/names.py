"""Name lists: tables that give ids or hashes real names, and the ids that names have by a layout's hash."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from ..layout import Layout
from ..layout.language.fields import HashModel
from ..layout.types import TYPES

_PAIR = re.compile(r"(0x)?([0-9a-fA-F]+)\s*[\t,;=: ]\s*(\S.*)$")


@dataclass(frozen=True)
class Ids:
    """How a layout shows the ids of its items: in hexadecimal or not, with so many digits; how: how they come from names, if they do."""

    hex: bool
    digits: int
    how: HashModel | None

    def shown(self, number: int) -> str:
        """An id as it is shown."""
        return f"{number:0{self.digits}x}" if self.hex else str(number).zfill(self.digits)

    def of(self, name: str) -> str:
        """The id of a name or a path, where it comes from that."""
        assert self.how is not None
        return self.shown(self.how.of(name))


def ids_of(layout: Layout) -> Ids | None:
    """How its items' ids are shown, where a field holds them."""
    fields = [f for r in layout.item_regions() for f in r.fields]
    ties = [(f, t) for f in fields for t in (f, *(f.parts or ())) if t.means == f"{layout.kind}.id"]
    if not ties:
        return None
    holder, tie = ties[0]
    width = 2 * (TYPES[holder.type].width(holder) or 8) if tie.shown == "hex" else 0
    return Ids(tie.shown == "hex", tie.digits or width, tie.hash)


def names_by_id(layout: Layout, lines: Iterable[str]) -> dict[str, str]:
    """Paths by ids as an archive shows them, from the lines of a name list.

    A line is a path, whose id is worked out by the layout's hash, or an id and a path with a tab, comma, semicolon,
    colon, equals sign or space between. Empty lines and lines that begin with # are passed over.
    """
    ids, out = ids_of(layout), {}
    if ids is None:
        return {}
    how = ids.how
    for raw in lines:
        line = raw.strip()
        if not line or line.startswith("#"):
            continue
        pair = _PAIR.match(line)
        if pair and (how is None or _is_id(pair[2], how, pair[3])):
            out[ids.shown(int(pair[2], 16 if ids.hex or pair[1] else 10))] = pair[3].strip()
        elif how is not None:
            path = line.replace("\\", "/")
            out[ids.of(path)] = path
    return out


def _is_id(text: str, how: HashModel, path: str) -> bool:
    """Whether a first word is an id, and not the beginning of a path with a space in it."""
    return len(text) >= 6 and int(text, 16) == how.of(path.strip().replace("\\", "/"))
