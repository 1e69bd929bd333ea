"""The entries of a game's newest survey: of one archive, or of all."""

from __future__ import annotations

from typing import Any

from django.db.models import QuerySet, Sum, Value
from django.db.models.functions import Concat
from ninja import Schema

from ..bulk import among
from ..games.models import Game, Survey
from ..paging import next_place
from .models import Archive, Entry

COLUMNS = ("id", "ordinal", "path", "at", "stored", "size", "method", "file")
SORTS = ("path", "size", "stored", "at")


class AskedEntries(Schema):
    """What a list of entries is asked for. archive: its number, 0 for all; sort: else as the table has them."""

    archive: int = 0
    q: str = ""
    sort: str = ""

    def order(self) -> tuple[str, ...]:
        """What they are ordered by."""
        column = self.sort.lstrip("-")
        if column in SORTS:
            return self.sort, "pk"
        return (
            ("ordinal", "pk") if self.archive else ("archive__seen_in__path", "archive__seen_in__pk", "ordinal", "pk")
        )

    def rows(self, survey: Survey | None) -> QuerySet[Entry]:
        """The entries, in order."""
        rows = Entry.objects.filter(archive__seen_in__survey=survey) if survey else Entry.objects.none()
        if self.archive:
            rows = rows.filter(archive=self.archive)
        for word in self.q.split():
            rows = rows.filter(path__icontains=word)
        return rows.order_by(*self.order())

    def count(self, survey: Survey | None) -> int:
        """How many there are."""
        if survey is None or self.q.split():
            return self.rows(survey).count()
        if not self.archive:
            return survey.entries
        seen = Archive.objects.filter(pk=self.archive, seen_in__survey=survey)
        return seen.aggregate(n=Sum("entry_count"))["n"] or 0


def entries_page(game: Game, asked: AskedEntries, offset: int, limit: int, totals: bool) -> dict[str, Any]:
    """Some of the entries, and how many there are of all where that is asked for."""
    survey = game.current_survey()
    numbers = entry_numbers(survey, asked, offset, offset + limit)
    found = {row["id"]: row for row in Entry.objects.filter(pk__in=among(numbers)).values(*COLUMNS)}
    rows = [found[n] for n in numbers if n in found]
    return {"total": asked.count(survey) if totals else None, "rows": rows}


def entry_numbers(survey: Survey | None, asked: AskedEntries, first: int, end: int | None) -> list[int]:
    """The numbers of entries from one place up to another."""
    return list(asked.rows(survey).values_list("pk", flat=True)[first:end])


def next_entry(game: Game, asked: AskedEntries, begins: str, first: int) -> int:
    """The place of the next entry, from one place on and then from the start, whose path or name begins with a text; -1 where
    there is none."""
    survey = game.current_survey()
    rows = asked.rows(survey)
    found = rows.annotate(names=Concat(Value("/"), "path")).filter(names__icontains=f"/{begins}")
    if asked.archive and not asked.q.split() and not asked.sort:  # then an entry's place is its number in the table
        for part in (found.filter(ordinal__gte=first), found.filter(ordinal__lt=first)):
            for place in part.values_list("ordinal", flat=True)[:1]:
                return place
        return -1
    return next_place(rows, found, asked.order(), first)
