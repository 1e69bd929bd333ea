"""Titles of streams as a table of text: brought in, and given out again."""

from __future__ import annotations

import csv
import io

from django.http import HttpRequest, HttpResponse
from ninja import File, Form, Query, Router, Schema
from ninja.files import UploadedFile

from zubret_core.extract.sounds import safe_cell
from zubret_core.locate import titles

from ..errors import one, stopped
from ..games.models import Game
from . import query, saying
from .filters import Filter
from .saying_api import SayingOut

router = Router()
GIVEN_OUT = ("stream_id", "shown", "bank__name", "archive__path")
"""Columns of a table that is given out."""
SAMPLE = 6
"""Rows of a table that are shown."""


class Columns(Schema):
    """Which column holds what, counted from 0; -1: as the head tells, else the first and the second; bank_column -2: none."""

    id_column: int = -1
    title_column: int = -1
    bank_column: int = -1


class TitlesPlan(Schema):
    """What a table would do. rows: some of it; of `unknown` and `doubled` ids the first are listed."""

    rows: list[list[str]]
    head: bool
    lines: int
    encoding: str
    separator: str
    id_column: int
    title_column: int
    bank_column: int
    streams: int
    shared: int
    unknown: int
    unknown_ids: list[str]
    doubled: int
    doubled_ids: list[str]


def _matched(
    game: Game, file: UploadedFile, columns: Columns, filter: Filter
) -> tuple[titles.Table, titles.Matched, Columns]:
    table = titles.read_table(file.read(titles.LARGEST + 1), file.name or "")
    bank = (
        None
        if columns.bank_column < -1
        else table.column(titles.BANKS)
        if columns.bank_column < 0
        else columns.bank_column
    )
    at = columns.id_column if columns.id_column >= 0 else table.column(titles.IDS)
    at = at if at is not None else 0
    title = columns.title_column if columns.title_column >= 0 else table.column(titles.TITLES)
    title = title if title is not None else 1 if at == 0 else 0
    rows = query.filtered(game, filter).order_by().values_list("pk", "stream_id", "bank__name").iterator(10_000)
    found = titles.match(table, rows, at, title, bank)
    return table, found, Columns(id_column=at, title_column=title, bank_column=-2 if bank is None else bank)


@router.post("/games/{int:game_id}/titles/plan", response=TitlesPlan)
def plan_titles(
    request: HttpRequest, game_id: int, filter: Query[Filter], columns: Form[Columns], file: File[UploadedFile]
):
    """What a table of ids and titles would name, of the streams that a filter leaves."""
    table, found, used = _matched(one(Game.objects.all(), game_id), file, columns, filter)
    return {
        "rows": [row[:8] for row in table.rows[:SAMPLE]],
        "head": table.head,
        "lines": len(table.body),
        "encoding": table.encoding,
        "separator": table.separator,
        **used.dict(),
        "streams": len(found.titles),
        "shared": found.shared,
        "unknown": len(found.unknown),
        "unknown_ids": found.unknown[: titles.SHOWN],
        "doubled": len(found.doubled),
        "doubled_ids": found.doubled[: titles.SHOWN],
    }


@router.post("/games/{int:game_id}/titles", response=SayingOut)
def bring_titles(
    request: HttpRequest, game_id: int, filter: Query[Filter], columns: Form[Columns], file: File[UploadedFile]
):
    """Name the streams that a filter leaves by a table of ids and titles."""
    game = one(Game.objects.all(), game_id)
    _, found, _ = _matched(game, file, columns, filter)
    if not found.titles:
        raise stopped(
            409, "No stream has any of these ids.", "Choose another column for the ids, or take the filter away."
        )
    return saying.say(game, list(found.titles), {}, list(found.titles.values()))


@router.get("/games/{int:game_id}/titles/csv")
def give_titles(request: HttpRequest, game_id: int, filter: Query[Filter]):
    """The given names of the streams that a filter leaves, as a table: id, title, bank, archive."""
    game = one(Game.objects.all(), game_id)
    named = query.filtered(game, filter.model_copy(update={"named": "yes"}))
    rows = (
        query.described(named, game)
        .select_related(None)
        .order_by("archive__path", "bank__entry_index", "ordinal", "pk")
    )
    out = io.StringIO(newline="")
    table = csv.writer(out)
    table.writerow(("id", "title", "bank", "archive"))
    for row in rows.values_list(*GIVEN_OUT).iterator(2_000):
        table.writerow([safe_cell(str(cell)) for cell in row])
    answer = HttpResponse("\ufeff" + out.getvalue(), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = 'attachment; filename="titles.csv"'
    return answer
