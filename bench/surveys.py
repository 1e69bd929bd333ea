"""What changed between two surveys, against one bare SQL join."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

from server.bulk import bulk_insert
from server.changes import comparing as changes
from server.games.models import Game, Survey, SurveyFile
from server.shelf.models import Archive, Entry
from server.surveys.rows import entry_row
from zubret_core.container import Entry as CoreEntry

from .pairs import Row, pairs
from .tables import COUNT

JOIN = "SELECT o.path, o.size, n.size FROM side0 o LEFT JOIN side1 n ON n.path = o.path WHERE n.crc IS NOT o.crc"
"""What a bare database answers."""


def two_surveys(game: Game, entry: Callable[[int, int], CoreEntry]) -> tuple[list[Survey], sqlite3.Connection]:
    """Two surveys of one archive, whose entries come by build and number; and the same rows in a bare database."""
    surveys, bare = [], sqlite3.connect(":memory:")
    for build in (0, 1):
        survey = Survey.objects.create(game=game)
        archive = Archive.objects.create(
            game=game, path="x.crate", size=build, mtime_ns=1, kind="layout", entry_count=COUNT
        )
        SurveyFile.objects.create(survey=survey, path="x.crate", size=1, mtime_ns=1, what="archive", archive=archive)
        entries = (entry(build, n) for n in range(COUNT))
        made = [entry_row(archive.pk, n, e, e.path) for n, e in enumerate(entries)]
        for _ in bulk_insert(Entry, Entry.BULK, made):
            pass
        bare.execute(f"CREATE TABLE side{build} (path TEXT, at INTEGER, size INTEGER, crc INTEGER)")
        bare.executemany(f"INSERT INTO side{build} VALUES (?, ?, ?, ?)", [(r[2], r[4], r[6], r[8]) for r in made])
        bare.execute(f"CREATE INDEX by_path{build} ON side{build} (path)")
        surveys.append(survey)
    bare.commit()
    return surveys, bare


def _some_differ(build: int, n: int) -> CoreEntry:
    path = f"s/{n // 500}/e{n + (build if n % 97 == 0 else 0):06}x.bin"
    return CoreEntry(path, n, 900, 900, "plain", zlib.crc32(b"%d" % (n if n % 89 or not build else -n)))


def rows(folder: Path) -> Iterator[Row]:
    """Two surveys of 200,000 entries, some thousand of them different, against one bare join of the same rows."""
    game = Game.objects.create(name="bench", folder=str(folder / "changes"))
    surveys, bare = two_surveys(game, _some_differ)

    def forget() -> None:
        changes.Comparison.objects.all().delete()

    try:
        yield pairs(
            "what changed between two surveys of 200,000 entries",
            lambda: changes.compare(*surveys),
            "one bare SQL join of them",
            lambda: bare.execute(JOIN).fetchall(),
            3.0,
            before=forget,
        )
    finally:
        changes.Comparison.objects.all().delete()
        Entry.objects.all()._raw_delete("default")
        game.delete()
        bare.close()
