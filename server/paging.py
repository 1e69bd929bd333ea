"""How lists are asked for in pages."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from django.db.models import Q, QuerySet
from ninja import Field

Offset = Annotated[int, Field(ge=0, lt=1 << 53)]
"""Rows that are passed over."""
MOST = 500
"""Rows of a page at most."""
Limit = Annotated[int, Field(ge=0, le=MOST)]
"""Rows of a page."""


def next_of(places: Sequence[int], first: int) -> int:
    """Of some places of a list in their order, the first from one on, else from the start; -1 where there is none."""
    return next((place for place in places if place >= first), places[0] if places else -1)


def next_place(rows: QuerySet[Any], wanted: QuerySet[Any], keys: Sequence[str], first: int) -> int:
    """The same where the list is asked for and not at hand: of the rows that are wanted, in the order of keys as `order_by` has
    them, none of which may be null, and which no two rows have in common."""
    names = [key.lstrip("-") for key in keys]
    begin = rows.order_by(*keys).values_list(*names)[first : first + 1].first() if first else None
    after = wanted.exclude(_before(keys, begin)) if begin else wanted.none() if first else wanted
    found = next((row for part in (after, wanted) for row in part.order_by(*keys).values_list(*names)[:1]), None)
    return rows.filter(_before(keys, found)).order_by().count() if found else -1


def _before(keys: Sequence[str], row: Sequence[Any]) -> Q:
    """What stands before a row."""
    before, like = Q(), Q()
    for key, value in zip(keys, row, strict=True):
        name, side = key.lstrip("-"), "gt" if key.startswith("-") else "lt"
        before |= like & Q(**{f"{name}__{side}": value})
        like &= Q(**{name: value})
    return before
