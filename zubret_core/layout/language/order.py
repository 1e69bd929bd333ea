"""In which order ties are solved, and circles in which they can't be."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from .expression import compiled
from .fields import FieldModel, Tied
from .schema import Layout, Region, ties_of


class Circle(Exception):
    """Ties that wait for each other; `names` are two of them that do."""

    def __init__(self, names: tuple[str, str]):
        super().__init__(f"{names[0]} and {names[1]} wait for each other")
        self.names = names


def _sorted(waits: Mapping[str, Iterable[str]]) -> list[str]:
    """Names behind all that they wait for."""
    out: dict[str, None] = {}
    path: list[str] = []

    def visit(name: str) -> None:
        if name in out:
            return
        if name in path:
            raise Circle((path[-1], name))
        path.append(name)
        for other in waits.get(name, ()):
            visit(other)
        path.pop()
        out[name] = None

    for name in waits:
        visit(name)
    return list(out)


def named_by(tie: Tied) -> list[str]:
    """The names that a tie's unit, per, base, key and expression use."""
    unit = () if tie.unit_name else (*compiled(tie.unit).names, *compiled(tie.per).names)
    of = tie.of if isinstance(tie, FieldModel) else None
    return [*unit, *compiled(tie.base).names, *compiled(tie.xor).names, *(compiled(of).names if of is not None else ())]


def writing_order(region: Region) -> list[str]:
    """The ties of a region, each behind those fields of the record whose stored numbers its unit and base use."""
    parts = {f.name: [p.name for p in f.parts or ()] for f in region.fields}
    waits = {}
    for tie in ties_of(region):
        own = [n for n in named_by(tie) if "." not in n]
        waits[tie.name] = [*own, *(p for n in own for p in parts.get(n, ()) if p != tie.name)]
    return _sorted(waits)


NEEDED = {"seconds": ("rate",), "milliseconds": ("rate",)}
"""Meanings that a named unit needs; the others need codec, channels and block size."""


def check_reading_order(layout: Layout) -> None:
    """Circle where meanings of an item are each worked out from the other."""
    kind = layout.kind
    waits: dict[str, list[str]] = {}
    for region in layout.item_regions():
        for tie in ties_of(region):
            owner, _, what = (tie.means or "").partition(".")
            if owner == kind:
                names = [n.partition(".")[2] for n in named_by(tie) if n.startswith(f"{kind}.")]
                if tie.unit_name:
                    names += NEEDED.get(tie.unit_name, ("codec", "channels", "block_size"))
                waits.setdefault(what, []).extend(names)
    _sorted(waits)
