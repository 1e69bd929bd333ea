"""Name lists: tables that give ids or hashes real names, and the ids that names have by a layout's hash."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from ..layout import Layout
from ..layout.checks.sums import id_of
from ..layout.document import Slot, shape_of
from ..layout.document.ties import ids
from ..layout.language.fields import HashModel

_PAIR = re.compile(r"(0x)?([0-9a-fA-F]+)\s*[\t,;=: ]\s*(\S.*)$")


@dataclass(frozen=True)
class Ids:
    """How a layout shows the ids of its items, and how they come from names, if they do."""

    slot: Slot

    @property
    def how(self) -> HashModel | None:
        """The sum that makes ids of names."""
        return self.slot.tie.hash

    def shown(self, digits: str, hex: bool) -> str:
        """An id, given in digits, as it is shown; "" where these are none of its kind."""
        if not self.slot.whole:
            return digits.lower()
        radix = 16 if hex or self.slot.tie.shown == "hex" else 10
        return ids(self.slot, [int(digits, radix)])[0] if radix == 16 or digits.isdecimal() else ""

    def of(self, name: str) -> str:
        """The id of a name or a path, where it comes from that."""
        return id_of(self.slot, name)


def ids_of(layout: Layout) -> Ids | None:
    """How its items' ids are shown, where a field holds them."""
    slots = (s for r in layout.item_regions() for s in shape_of(layout, r).means.get(f"{layout.kind}.id", ()))
    slot = next(slots, None)
    return None if slot is None else Ids(slot)


def names_by_id(layout: Layout, lines: Iterable[str]) -> dict[str, str]:
    """Paths by ids as an archive shows them, from the lines of a name list.

    A line is a path, whose id is worked out by the layout's hash, or an id and a path with a tab, comma, semicolon,
    colon, equals sign or space between. Empty lines and lines that begin with # are passed over.
    """
    own, out = ids_of(layout), {}
    if own is None:
        return {}
    how = own.how
    for raw in lines:
        line = raw.strip()
        if not line or line.startswith("#"):
            continue
        pair = _PAIR.match(line)
        if pair and (how is None or _is_id(own, pair[2], bool(pair[1]), pair[3])):
            if id := own.shown(pair[2], bool(pair[1])):
                out[id] = pair[3].strip()
        elif how is not None:
            path = line.replace("\\", "/")
            out[own.of(path)] = path
    return out


def _is_id(own: Ids, digits: str, hex: bool, path: str) -> bool:
    """Whether a first word is an id, and not the beginning of a path with a space in it."""
    if len(digits) < 6:
        return False
    wanted = own.of(path.strip().replace("\\", "/"))
    return wanted in (own.shown(digits, True), own.shown(digits, hex))
