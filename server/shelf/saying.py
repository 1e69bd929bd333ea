"""What users say of streams: names, marks, kinds, notes, spoken lines; of one stream or of tens of thousands, and taken back again."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from django.db import connection, transaction
from django.db.models.functions import Coalesce

from zubret_core.audio.measure import KINDS
from zubret_core.base import ZubretError
from zubret_core.extract import checked_template, named

from ..bulk import BATCH, among
from ..errors import stopped
from ..games.models import Game
from . import query
from .facts import COLUMNS, Facts
from .models import Archive, Saying, Stream, numbered

USUAL: dict[str, Any] = {
    "name": "", "marked": False, "kind": "", "notes": "", "text": "", "author": "", "done": False,
}  # fmt: skip
"""What can be said, and what is said of a stream of which nothing is."""
LONGEST = {"name": 200, "notes": 5000, "text": 5000, "author": 100}
"""Characters that are kept of a text."""

_COLUMNS = ", ".join(USUAL)
_CHOSEN = """
    SELECT s.locator, {values}
    FROM json_each(%(rows)s) j CROSS JOIN shelf_stream s ON s.id = json_extract(j.value, '$[0]')
    CROSS JOIN shelf_archive a ON a.id = s.archive_id AND a.game_id = %(game)s
"""
"""Streams by their numbers, with what shall be said of them; looked up one after the other, as the joins stand."""
_BEFORE = f"SELECT locator, {_COLUMNS} FROM shelf_unsaid WHERE saying_id = %(of)s AND id > %(behind)s ORDER BY id LIMIT {BATCH}"
"""Streams of a saying, with what was said before it."""
_KEEP = f"""
    INSERT INTO shelf_unsaid (saying_id, locator, {_COLUMNS})
    SELECT %(saying)s, of.locator, {", ".join(f"COALESCE(g.{c}, {'0' if v is False else repr(v)})" for c, v in USUAL.items())}
    FROM ({{streams}}) of LEFT JOIN shelf_given g ON g.game_id = %(game)s AND g.locator = of.locator
"""
_SAY = f"""
    INSERT INTO shelf_given (game_id, locator, {_COLUMNS})
    SELECT %(game)s, of.locator, {", ".join(f"of.{c}" for c in USUAL)} FROM ({{streams}}) of WHERE true
    ON CONFLICT (game_id, locator) DO UPDATE SET {{columns}}
"""


def checked(said: Mapping[str, Any]) -> dict[str, Any]:
    """What may be said, trimmed; an error for a kind that is none. What is None is not said."""
    out = {column: value for column, value in said.items() if value is not None}
    if (kind := out.get("kind", "")) not in ("", *KINDS):
        raise stopped(422, f'"{kind}" is no kind.', f"Choose {', '.join(KINDS)}, or none.", "kind")
    for column, longest in LONGEST.items():
        if column in out:
            out[column] = out[column].strip()[:longest]
    return out


def say(
    game: Game, streams: Sequence[int], said: Mapping[str, Any], each: Mapping[str, Sequence[str]] | None = None
) -> Saying:
    """Say something of streams, by their numbers: the same of all, and by `each` texts of their own, where an empty one leaves what
    was said. An empty text that is said of all takes back what was.

    Some thousand at a time, each with what was said before.
    """
    said, each = checked(said), each or {}
    rows = list(zip(streams, *each.values(), strict=True))
    own = {column: f"json_extract(j.value, '$[{n}]')" for n, column in enumerate(each, 1)}
    values = ", ".join(f"{own.get(column, f'%({column})s')} AS {column}" for column in USUAL)
    saying = Saying.objects.create(game=game, columns=[*each, *said])
    for first in range(0, len(rows), BATCH):
        batch = {"rows": json.dumps(rows[first : first + BATCH])}
        _write(saying, _CHOSEN.format(values=values), USUAL | said | batch, kept=tuple(each))
    return saying


def names_by(game: Game, streams: Sequence[int], template: str) -> list[str]:
    """A name for each stream by a template such as "{bank} {number:2}"; numbers count in the order of the streams."""
    template = checked_template(template)
    rows = query.described(numbered(Stream.objects.all(), streams, game.current_survey()), game).select_related(None)
    facts = {values[0]: Facts._make(values) for values in rows.values_list(*COLUMNS).iterator(BATCH)}
    if len(facts) < len(streams):
        raise gone()
    held = Archive.objects.filter(pk__in=among({of.archive for of in facts.values()}))
    files = dict(held.values_list("pk", Coalesce("outer__path", "path")))
    every = (facts[stream] for stream in streams)
    return [named(template, of.fields(files[of.archive], n)) for n, of in enumerate(every, 1)]


def gone() -> ZubretError:
    """For streams that the newest survey does not have."""
    return stopped(410, "The newest survey no longer has all of these streams.", "Choose them from the list again.")


def take_back(saying: Saying) -> Saying:
    """Say again what was said before; what was said of other columns since stays. That can be taken back, too."""
    back = Saying.objects.create(game=saying.game, columns=saying.columns)
    behind = 0
    while last := list(saying.before.filter(pk__gt=behind).order_by("pk").values_list("pk", flat=True)[:BATCH]):
        _write(back, _BEFORE, {"of": saying.pk, "behind": behind})
        behind = last[-1]
    return back


def _write(saying: Saying, streams: str, values: Mapping[str, Any], kept: Sequence[str] = ()) -> None:
    """Keep what is said of some streams, and say what shall be, in one transaction; of the `kept` columns an empty text leaves
    what was said."""
    values = {**values, "saying": saying.pk, "game": saying.game_id}
    columns = ", ".join(
        f"{column} = COALESCE(NULLIF(excluded.{column}, ''), {column})"
        if column in kept
        else f"{column} = excluded.{column}"
        for column in saying.columns
    )
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(_KEEP.format(streams=streams), values)
        saying.streams += cursor.rowcount
        cursor.execute(_SAY.format(streams=streams, columns=columns), values)
        saying.save(update_fields=["streams"])
        Game.has_said(saying.game_id)
