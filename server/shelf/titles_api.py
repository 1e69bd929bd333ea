"""Titles and spoken texts of streams as a table: brought in, and given out again, texts as a script for speakers, too."""

from __future__ import annotations

import csv
import io

from django.http import HttpRequest, HttpResponse
from django.template import loader
from ninja import File, Form, Query, Router, Schema
from ninja.files import UploadedFile

from zubret_core.extract.sounds import safe_cell
from zubret_core.locate import titles
from zubret_core.locate.names import Ids, ids_of

from ..errors import one, stopped
from ..games.models import Game
from ..layouts.known import known_for
from . import query, saying
from .filters import Filter
from .models import Bank, Entry
from .opening import spot_of
from .saying_api import SayingOut

router = Router()
GIVEN_OUT = ("stream_id", "shown", "bank__name", "archive__path")
"""Columns of a table that is given out."""
SPOKEN = {
    "id": "stream_id",
    "bank": "bank__name",
    "language": "language",
    "title": "shown",
    "text": "given_text",
    "notes": "given_notes",
    "author": "given_author",
    "seconds": "seconds",
}
"""Columns of a script, and where they come from."""
SAMPLE = 6
"""Rows of a table that are shown."""
HEAD, NONE = -1, -2
"""As the head tells; none."""


class Columns(Schema):
    """Which column holds what, counted from 0; -1: as the head tells, else the first and the second; -2: none. written: a template
    by which ids are written; entry: the number of an entry of the game that is the table, in place of a file."""

    id_column: int = HEAD
    title_column: int = HEAD
    text_column: int = HEAD
    bank_column: int = HEAD
    language_column: int = HEAD
    written: str = ""
    entry: int = 0


class TitlesPlan(Schema):
    """What a table would do; titles, texts: how many of each the streams get. rows: some of it; of `unknown` and `doubled` ids the first are listed."""

    rows: list[list[str]]
    head: bool
    lines: int
    encoding: str
    separator: str
    id_column: int
    title_column: int
    text_column: int
    bank_column: int
    language_column: int
    streams: int
    titles: int
    texts: int
    shared: int
    unknown: int
    unknown_ids: list[str]
    doubled: int
    doubled_ids: list[str]


def _hashed(game: Game) -> list[Ids]:
    """How ids come from names, in the banks of a game."""
    known = known_for(game)
    slugs = Bank.objects.filter(archive__seen_in__survey=game.current_survey()).values_list("layout", flat=True)
    layouts = [known.layout_named(slug) for slug in slugs.order_by("layout").distinct()]
    every = [ids_of(layout) for layout in layouts if layout is not None]
    return [ids for ids in every if ids is not None and ids.how is not None]


def _table(game: Game, file: UploadedFile | None, entry: int, names: bool) -> titles.Table:
    if file is not None:
        return titles.read_table(file.read(titles.LARGEST + 1), file.name or "", names)
    if not entry:
        raise stopped(422, "No table was given.", "Give a file, or an entry of the game.", "file")
    rows = Entry.objects.select_related("archive__game", "archive__outer")
    row = one(rows.filter(archive__seen_in__survey=game.current_survey()), entry)
    return titles.table_of(spot_of(row.archive).entry(row.ordinal).source, known_for(game), names)


def _matched(
    game: Game, file: UploadedFile | None, asked: Columns, filter: Filter
) -> tuple[titles.Table, titles.Matched, dict[str, int]]:
    hashed = _hashed(game)
    table = _table(game, file, asked.entry, bool(hashed))
    chosen = {name: getattr(asked, f"{name}_column") for name in ("id", "title", "text", "bank", "language")}
    other = {name: None if at < 0 else at for name, at in chosen.items() if at != HEAD and (at >= 0 or name != "id")}
    columns = titles.Columns(**{**vars(titles.Columns.of(table)), **other})
    values = ("pk", "stream_id", "name", "bank__name", "language")
    rows = query.filtered(game, filter).order_by().values_list(*values).iterator(10_000)
    found = titles.match(table, (titles.Called(*row) for row in rows), columns, asked.written, hashed)
    used = {f"{name}_column": NONE if at is None else at for name, at in vars(columns).items()}
    return table, found, used


@router.post("/games/{int:game_id}/titles/plan", response=TitlesPlan)
def plan_titles(
    request: HttpRequest,
    game_id: int,
    filter: Query[Filter],
    columns: Form[Columns],
    file: File[UploadedFile | None] = None,
):
    """What a table of ids with titles or texts would say of the streams that a filter leaves."""
    table, found, used = _matched(one(Game.objects.all(), game_id), file, columns, filter)
    return {
        "rows": [row[:8] for row in table.rows[:SAMPLE]],
        "head": table.head,
        "lines": len(table.body),
        "encoding": table.encoding,
        "separator": table.separator,
        **used,
        "streams": len(found.said),
        "titles": sum(bool(title) for title, _ in found.said.values()),
        "texts": sum(bool(text) for _, text in found.said.values()),
        "shared": found.shared,
        "unknown": len(found.unknown),
        "unknown_ids": found.unknown[: titles.SHOWN],
        "doubled": len(found.doubled),
        "doubled_ids": found.doubled[: titles.SHOWN],
    }


@router.post("/games/{int:game_id}/titles", response=SayingOut)
def bring_titles(
    request: HttpRequest,
    game_id: int,
    filter: Query[Filter],
    columns: Form[Columns],
    file: File[UploadedFile | None] = None,
):
    """Say of the streams that a filter leaves what a table of ids with titles or texts does; an empty cell leaves what was said."""
    game = one(Game.objects.all(), game_id)
    _, found, _ = _matched(game, file, columns, filter)
    if not found.said:
        raise stopped(
            409, "No stream has any of these ids.", "Choose another column for the ids, or take the filter away."
        )
    each = dict(zip(("name", "text"), zip(*found.said.values(), strict=True), strict=True))
    return saying.say(game, list(found.said), {}, {column: some for column, some in each.items() if any(some)})


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
    return _csv(out.getvalue(), "titles")


def _csv(text: str, name: str) -> HttpResponse:
    """A table as a download, with the mark by which table programs know UTF-8."""
    answer = HttpResponse("\ufeff" + text, content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}.csv"'
    return answer


@router.get("/games/{int:game_id}/script")
def script(request: HttpRequest, game_id: int, filter: Query[Filter], sort: str = "", page: bool = False):
    """The streams that a filter leaves as a script for speakers: a table with what is spoken and how long the original is, or a
    page to be printed."""
    game = one(Game.objects.all(), game_id)
    rows = query.described(query.Question(game, filter, sort).rows(), game).select_related(None)
    lines = rows.values_list(*SPOKEN.values()).iterator(2_000)
    if page:
        filled = [dict(zip(SPOKEN, line, strict=True)) for line in lines]
        return HttpResponse(loader.render_to_string("shelf/script.html", {"game": game, "lines": filled}))
    out = io.StringIO(newline="")
    table = csv.writer(out)
    table.writerow(SPOKEN)
    for line in lines:
        cells = ("" if cell is None else f"{cell:.3f}" if isinstance(cell, float) else str(cell) for cell in line)
        table.writerow([safe_cell(cell) for cell in cells])
    return _csv(out.getvalue(), "script")
