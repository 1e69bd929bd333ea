"""The files of a survey as a tree of folders, archives and archives inside them, of which some stand open."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import NamedTuple

from django.db.models import QuerySet

from zubret_core.base import Kept
from zubret_core.locate.spot import IN

from ..bulk import among
from ..games.models import Survey, SurveyFile


class Node(NamedTuple):
    """A row of the tree, and how deep it stands."""

    pk: int
    depth: int


_trees: Kept[str, list[Node]] = Kept(400_000, len)


def tree(
    survey: Survey, key: str, found: QuerySet[SurveyFile] | None, opened: Collection[str], order: list
) -> list[Node]:
    """The rows in view, from top to bottom: what stands in the folders that are open; or, where something is looked for, what
    was found with all that is around it, which then stands open. key: of the question."""

    def made() -> list[Node]:
        if found is None:
            return _flat(survey.seen.filter(within__in=among(["", *opened])), order, set(opened))
        return _flat(_around(survey, found), order, None)

    return _trees.made(f"{survey.pk} {key}", made)


def _around(survey: Survey, found: QuerySet[SurveyFile]) -> QuerySet[SurveyFile]:
    """What was found, and the folders and archives around it."""
    paths = set(found.values_list("path", flat=True))
    places = {place for path in paths for place in around(path)}
    return survey.seen.filter(path__in=among(paths | places))


def outermost(survey: Survey, numbers: Collection[int]) -> list[SurveyFile]:
    """Some rows by their numbers, without those that stand in another one of them."""
    rows = list(survey.seen.filter(pk__in=among(numbers)))
    paths = {row.path for row in rows}
    return [row for row in rows if paths.isdisjoint(around(row.path))]


def around(path: str) -> Iterable[str]:
    """The folders and archives around a path."""
    file, sign, _ = path.partition(IN)
    while sign:
        yield file
        at = path.find(IN, len(file) + len(IN))
        if at < 0:
            break
        file = path[:at]
    folder = path.partition(IN)[0]
    while folder := folder.rpartition("/")[0]:
        yield folder


def _flat(rows: QuerySet[SurveyFile], order: list, opened: Collection[str] | None) -> list[Node]:
    """The rows as they stand below each other; opened: those that stand open, None for all."""
    inside: dict[str, list[tuple[int, str]]] = {}
    for pk, path, within in rows.order_by(*order).values_list("pk", "path", "within").iterator(10_000):
        inside.setdefault(within, []).append((pk, path))
    out: list[Node] = []
    waiting = [(row, 0) for row in reversed(inside.get("", []))]
    while waiting:
        (pk, path), depth = waiting.pop()
        out.append(Node(pk, depth))
        if opened is None or path in opened:
            waiting.extend((row, depth + 1) for row in reversed(inside.get(path, [])))
    return out
