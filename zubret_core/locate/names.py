"""Name lists: tables that give ids or hashes real names."""

from __future__ import annotations

import re
from collections.abc import Iterable

from ..layout import Layout
from ..layout.language.fields import HashModel, Tied
from ..layout.language.schema import ties_of
from ..layout.types import TYPES

_PAIR = re.compile(r"(0x)?([0-9a-fA-F]+)\s*[\t,;=: ]\s*(\S.*)$")


def id_tie(layout: Layout) -> Tied | None:
    """The field that holds entries' ids."""
    return next((t for r in layout.item_regions() for t in ties_of(r) if t.means == "entry.id"), None)


def names_by_id(layout: Layout, lines: Iterable[str]) -> dict[str, str]:
    """Paths by ids as an archive shows them, from the lines of a name list.

    A line is a path, whose id is worked out by the layout's hash, or an id and a path with a tab, comma, semicolon,
    colon, equals sign or space between. Empty lines and lines that begin with # are passed over.
    """
    tie = id_tie(layout)
    if tie is None:
        return {}
    digits, how, out = _digits(layout, tie), tie.hash, {}
    for raw in lines:
        line = raw.strip()
        if not line or line.startswith("#"):
            continue
        pair = _PAIR.match(line)
        if pair and (how is None or _is_id(pair[2], how, pair[3])):
            number = int(pair[2], 16 if tie.shown == "hex" or pair[1] else 10)
            out[_shown(number, tie, digits)] = pair[3].strip()
        elif how is not None:
            path = line.replace("\\", "/")
            out[_shown(how.of(path), tie, digits)] = path
    return out


def _is_id(text: str, how: HashModel, path: str) -> bool:
    """Whether a first word is an id, and not the beginning of a path with a space in it."""
    return len(text) >= 6 and int(text, 16) == how.of(path.strip().replace("\\", "/"))


def _digits(layout: Layout, tie: Tied) -> int:
    if tie.digits:
        return tie.digits
    fields = [f for r in layout.item_regions() for f in r.fields]
    holder = next(f for f in fields if f is tie or any(p is tie for p in f.parts or ()))
    return 2 * (TYPES[holder.type].width(holder) or 8) if tie.shown == "hex" else 0


def _shown(number: int, tie: Tied, digits: int) -> str:
    return f"{number:0{digits}x}" if tie.shown == "hex" else str(number).zfill(digits)
