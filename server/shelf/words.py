"""The index of words: a full-text table of trigrams over the texts that a stream is found by."""

from __future__ import annotations

from django.db import connection
from django.db.models.expressions import RawSQL

from ..games.models import Game

_NEW = """
    INSERT INTO shelf_words(rowid, words)
    SELECT s.id,
        CASE WHEN instr(b.entry_path, s.name) THEN '' ELSE s.name || char(10) END || s.stream_id || char(10) ||
        CASE WHEN instr(a.path, b.entry_path) THEN '' ELSE b.entry_path || char(10) END || a.path
    FROM shelf_stream s JOIN shelf_bank b ON b.id = s.bank_id JOIN shelf_archive a ON a.id = s.archive_id
    WHERE s.id >= %s
"""
"""A text that another one holds needs no line of its own."""


def index_words(first: int) -> None:
    """Take in the streams from this number on, which were just written; those that go are left out by a trigger.

    One statement for some thousand of them costs an eighth of what a trigger for each does (measured): behind each
    statement, the index writes down what it has gathered.
    """
    with connection.cursor() as cursor:
        cursor.execute(_NEW, [first])


def with_word(word: str, game: Game) -> RawSQL:
    """The numbers of streams in whose name, id, bank or archive a word stands, or in what was said of them. Words of one or
    two characters have no trigram, and are looked for in the index's text."""
    like = "%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    if len(word) < 3:
        found, what = "words LIKE %s ESCAPE '\\'", like
    else:
        found, what = "shelf_words MATCH %s", '"' + word.replace('"', '""') + '"'
    said = (
        "SELECT s.id FROM shelf_given g JOIN shelf_stream s ON s.locator = g.locator "
        "WHERE g.game_id = %s AND (g.name LIKE %s ESCAPE '\\' OR g.notes LIKE %s ESCAPE '\\')"
    )
    return RawSQL(f"SELECT rowid FROM shelf_words WHERE {found} UNION {said}", [what, game.pk, like, like])
