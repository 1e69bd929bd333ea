"""The index of words: a full-text table of trigrams over the texts that a stream is found by, and what was said of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.db import connection
from django.db.models import Max, Min
from django.db.models.expressions import RawSQL

from zubret_core.base import Kept

from ..games.models import Survey, SurveyFile
from .models import Stream

_NEW = """
    INSERT INTO shelf_words(rowid, words)
    SELECT s.id,
        CASE WHEN instr(b.entry_path, s.name) THEN '' ELSE s.name || char(10) END || s.stream_id || char(10) ||
        CASE WHEN instr(a.path, b.entry_path) THEN '' ELSE b.entry_path || char(10) END || a.path ||
        COALESCE((SELECT char(10) || g.name || char(10) || g.notes || char(10) || g.text FROM shelf_given g
            WHERE g.game_id = a.game_id AND g.locator = s.locator), '')
    FROM shelf_stream s JOIN shelf_bank b ON b.id = s.bank_id JOIN shelf_archive a ON a.id = s.archive_id
    WHERE s.id >= %s
"""
"""A text that another one holds needs no line of its own. Triggers on what is said of streams hold the same text."""


def index_words(first: int) -> None:
    """Take in the streams from this number on, which were just written; those that go are left out by a trigger.

    One statement for some thousand of them costs an eighth of what a trigger for each does (measured): behind each
    statement, the index writes down what it has gathered.
    """
    with connection.cursor() as cursor:
        cursor.execute(_NEW, [first])


_spans: Kept[int, tuple[int, int]] = Kept(64)


def _span_of(survey: Survey) -> tuple[int, int]:
    """The lowest and the highest number of a finished survey's streams: those of other games are not looked at."""

    def worked_out() -> tuple[int, int]:
        of = SurveyFile.objects.filter(survey=survey, streams__gt=0).values("archive")
        found = Stream.objects.filter(archive__in=of).aggregate(first=Min("pk"), last=Max("pk"))
        return found["first"] or 0, found["last"] or 0

    return _spans.made(survey.pk, worked_out)


def with_words(words: Sequence[str], survey: Survey | None) -> RawSQL:
    """The numbers of streams about as new as a survey's in whose name, id, bank, archive, given name, notes or text all these words
    stand. Words of one or two characters have no trigram, and are looked for in the text of what the others leave."""
    tests, wanted = ["rowid BETWEEN %s AND %s"], list[Any](_span_of(survey) if survey else (0, 0))
    if long := [word for word in words if len(word) > 2]:
        tests.append("shelf_words MATCH %s")
        wanted.append(" AND ".join('"' + word.replace('"', '""') + '"' for word in long))
    for word in words:
        if len(word) < 3:
            tests.append("words LIKE %s ESCAPE '\\'")
            wanted.append("%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%")
    return RawSQL(f"SELECT rowid FROM shelf_words WHERE {' AND '.join(tests)}", wanted)
