"""Streams by the bank they stand in, with sums; loose sounds by their folder."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, NamedTuple

from django.db.models import Count, Sum

from zubret_core.base import Kept
from zubret_core.locate.spot import IN

from ..paging import next_of
from .query import Question

BANK, FOLDER = "bank", "folder"


class Group(NamedTuple):
    """Streams that stand together.

    id: the number of one of its banks; place: what a filter's `within` leads to; within: the archive, or the folder around it; seconds and bytes: of all of
    them together; looped: how many have a loop.
    """

    id: int
    place: str
    what: str
    name: str
    within: str
    language: str
    streams: int
    seconds: float
    bytes: int
    looped: int

    def joined(self, other: Group) -> Group:
        """Both as one, under this one's name."""
        return self._replace(
            streams=self.streams + other.streams,
            seconds=self.seconds + other.seconds,
            bytes=self.bytes + other.bytes,
            looped=self.looped + other.looped,
        )


SORTS = {
    "name": lambda g: (g.name.lower(), g.within),
    "within": lambda g: (g.within, g.name),
    "language": lambda g: (g.language, g.place),
    "streams": lambda g: g.streams,
    "length": lambda g: g.seconds,
    "size": lambda g: g.bytes,
    "looped": lambda g: g.looped,
}
_found: Kept[str, list[Group]] = Kept(16)


def groups_of(asked: Question) -> list[Group]:
    """All groups in which something answers a question, in the question's order; worked out once, as its streams are."""
    unsorted = replace(asked, sort="")
    groups = _found.made(unsorted.key, lambda: _made(unsorted))
    by = SORTS.get(asked.sort.lstrip("-"))
    return sorted(groups, key=by, reverse=asked.sort.startswith("-")) if by else groups


def _made(asked: Question) -> list[Group]:
    where = ("archive__path", "archive__kind", "bank__layout", "bank__entry_path", "bank__name", "bank__language")
    sums = asked.streams().order_by().values("bank_id", *where).annotate(
        streams=Count("pk"), length=Sum("seconds"), bytes=Sum("stored"), looped=Count("loop_start")
    )  # fmt: skip
    found: dict[str, Group] = {}
    for bank, path, kind, layout, entry, name, language, streams, seconds, size, looped in sums.values_list(
        "bank_id", *where, "streams", "length", "bytes", "looped"
    ):
        group = Group(
            bank, *_place(path, kind, layout, entry, name), language, streams, seconds or 0.0, size or 0, looped
        )
        found[group.place] = found[group.place].joined(group) if group.place in found else group
    return [found[place] for place in sorted(found)]


def _place(path: str, kind: str, layout: str, entry: str, name: str) -> tuple[str, str, str, str]:
    """Place, what, name and within of a bank's group; a loose sound stands with those of its folder."""
    folder, _, file = path.rpartition("/")
    if kind != "file":
        return f"{path}{IN}{entry}", BANK, name, path
    if layout:
        return path, BANK, name or file, folder
    return f"{folder}/", FOLDER, folder.rpartition("/")[2], folder.rpartition("/")[0]


def page_of(asked: Question, offset: int, limit: int) -> dict[str, Any]:
    """Some of the groups."""
    groups = groups_of(asked)
    return {"total": len(groups), "rows": [g._asdict() for g in groups[offset : offset + limit]]}


def beginning(asked: Question, text: str, first: int) -> int:
    """The place in the list of the next group whose name begins with a text; see `next_of`."""
    text = text.lower()
    return next_of([n for n, g in enumerate(groups_of(asked)) if g.name.lower().startswith(text)], first)
