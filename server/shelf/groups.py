"""Streams by the bank they stand in, with sums; sounds that are in no bank by their folder, on disk or in an archive."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, NamedTuple

from django.db.models import Count, Min, Q, QuerySet, Sum

from zubret_core.base import Kept
from zubret_core.locate.spot import IN

from ..bulk import bulk_insert
from ..games.models import Survey
from ..paging import next_of
from .models import Stream, SurveyGroup, streams_in
from .query import EVERYTHING, Question

BANK, FOLDER = "bank", "folder"


class Group(NamedTuple):
    """Streams that stand together; the fields of `SurveyGroup`."""

    bank: int
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
            bank=min(self.bank, other.bank),
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


def write_down(survey: Survey) -> None:
    """Keep the groups of all streams of a survey that is being made."""
    groups = _made(streams_in(survey), True)
    for _ in bulk_insert(SurveyGroup, ("survey", *Group._fields), ((survey.pk, *group) for group in groups)):
        pass


def page_of(asked: Question, offset: int, limit: int) -> dict[str, Any]:
    """Some of the groups in which something answers a question. Those of all streams are read as the survey wrote them."""
    if asked.filter == EVERYTHING and not asked.sort:
        written = _written(asked.survey)
        total, groups = written.count(), list(_read(written[offset : offset + limit]))
    else:
        found = groups_of(asked)
        total, groups = len(found), found[offset : offset + limit]
    return {"total": total, "rows": [group._asdict() for group in groups]}


def groups_of(asked: Question) -> list[Group]:
    """All groups in which something answers a question, in the question's order; worked out once, as its streams are."""
    unsorted = replace(asked, sort="")
    groups = _found.made(unsorted.key, lambda: _all(unsorted))
    by = SORTS.get(asked.sort.lstrip("-"))
    return sorted(groups, key=by, reverse=asked.sort.startswith("-")) if by else groups


def _all(asked: Question) -> list[Group]:
    if asked.filter == EVERYTHING:
        return list(_read(_written(asked.survey)))
    return _made(asked.streams(), not asked.filter.q.split())


def _written(survey: Survey | None) -> QuerySet[SurveyGroup]:
    return SurveyGroup.objects.filter(survey=survey).order_by("place")


def _read(rows: QuerySet[SurveyGroup]) -> Iterator[Group]:
    return (Group(*row) for row in rows.values_list(*Group._fields))


def _made(rows: QuerySet[Stream], joined: bool) -> list[Group]:
    """The groups of streams, by their places; joined: to the files of a survey, which know their folders."""
    found: dict[str, Group] = {}
    loose = Q(archive__kind="file", bank__layout="")
    if joined:
        for folder, *sums in _sums(rows.filter(loose).values("archive__seen_in__within")):
            found[f"{folder}/"] = Group(sums[0], f"{folder}/", FOLDER, *_named(folder), "", *sums[1:])
        rows = rows.exclude(loose)
    of_bank = ("archive__path", "archive__kind", "bank__layout", "bank__entry_path", "bank__name", "bank__language")
    for _, number, *sums, path, kind, layout, entry, name, language in _sums(rows.values("bank"), *of_bank):
        group = Group(number, *_place(path, kind, layout, entry, name), language, *sums)
        found[group.place] = found[group.place].joined(group) if group.place in found else group
    return [found[place] for place in sorted(found)]


def _sums(grouped: QuerySet[Stream, Any], *columns: str) -> QuerySet[Stream, tuple]:
    """What streams are grouped by, and of each group the least number of a bank, how many streams there are, their seconds and
    stored bytes, how many have a loop, and columns that are the same in all of them: as aggregates, so that no text is sorted by."""
    sums = Min("bank"), Count("pk"), Sum("seconds"), Sum("stored"), Count("loop_start")
    return grouped.order_by().values_list(*grouped.query.values_select, *sums, *map(Min, columns))


def _place(path: str, kind: str, layout: str, entry: str, name: str) -> tuple[str, str, str, str]:
    """Place, what, name and within of a bank's group; a sound that is no bank stands with those of its folder."""
    file, around = _named(path)
    if layout:
        return (path, BANK, name or file, around) if kind == "file" else (f"{path}{IN}{entry}", BANK, name, path)
    if kind == "file":
        return f"{around}/", FOLDER, *_named(around)
    inner = _named(entry)[1]
    if not inner:
        return f"{path}{IN}/", FOLDER, file, around
    folder, outer = _named(inner)
    return f"{path}{IN}{inner}/", FOLDER, folder, f"{path}{IN}{outer}" if outer else path


def _named(path: str) -> tuple[str, str]:
    """The name at the end of a path, and what stands in front of it."""
    around, _, name = path.rpartition("/")
    return name, around


def beginning(asked: Question, text: str, first: int) -> int:
    """The place in the list of the next group whose name begins with a text; see `next_of`."""
    text = text.lower()
    return next_of([n for n, g in enumerate(groups_of(asked)) if g.name.lower().startswith(text)], first)
