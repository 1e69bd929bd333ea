"""A table of 200,000 entries: reading it, and writing its rows into the database."""

from __future__ import annotations

import sqlite3
import zipfile
from collections.abc import Iterator
from pathlib import Path

from django.db import connection

from server.bulk import bulk_insert
from server.games.models import Game
from server.shelf.models import Archive, Entry
from server.surveys.rows import entry_row
from zubret_core.container import DescribedArchive
from zubret_core.layout import layout_named
from zubret_core.locate import banks_of
from zubret_core.source import FileSource

from .game import large_table
from .pairs import Row, pairs, seconds
from .rebuilds import large_zip

COUNT = 200_000


def rows(folder: Path) -> Iterator[Row]:
    """Reading against zipfile; inserting against a bare executemany of the same rows."""
    crate, pack = folder / "large.crate", folder / "large.zip"
    large_table(crate, COUNT)
    large_zip(pack)
    layout = layout_named("saltglass-crate")

    def read() -> DescribedArchive:
        with FileSource(crate) as file:
            return DescribedArchive(layout, file)

    def read_tuples() -> list[tuple]:
        return read().table.tuples()

    def read_zip() -> None:
        zipfile.ZipFile(pack).close()

    zipped = "zipfile opening as many members"
    yield pairs("200,000-entry table into plain tuples", read_tuples, zipped, read_zip, 0.10, 15)
    yield pairs("opening it: all columns as Python values", read, zipped, read_zip, None)
    entries = read().entries
    game = Game.objects.create(name="bench", folder=str(folder))
    archive = Archive.objects.create(game=game, path="large.crate", size=1, mtime_ns=1, kind="layout")
    data = [entry_row(archive.pk, n, e, e.path) for n, e in enumerate(entries)]
    with connection.cursor() as cursor:
        wanted = "tbl_name = 'shelf_entry' AND sql IS NOT NULL"
        schema = [r[0] for r in cursor.execute(f"SELECT sql FROM sqlite_master WHERE {wanted}").fetchall()]
    bare_place = folder / "bare.sqlite3"
    marks = ", ".join("?" * len(Entry.BULK))
    columns = ", ".join(Entry._meta.get_field(f).column for f in Entry.BULK)

    def ours() -> None:
        for _ in bulk_insert(Entry, Entry.BULK, data):
            pass

    def bare() -> None:
        with sqlite3.connect(bare_place) as base:
            base.executemany(f"INSERT INTO shelf_entry ({columns}) VALUES ({marks})", data)
        base.close()

    def clear() -> None:
        Entry.objects.all()._raw_delete("default")
        bare_place.unlink(missing_ok=True)
        base = sqlite3.connect(bare_place)
        base.execute("PRAGMA journal_mode=WAL")
        base.execute("PRAGMA synchronous=NORMAL")
        for statement in schema:
            base.execute(statement)
        base.close()

    try:
        yield pairs("its rows into SQLite", ours, "bare sqlite3 executemany", bare, 2.5, before=clear)
    finally:
        Entry.objects.all()._raw_delete("default")
        game.delete()
    with FileSource(crate) as file:
        opened = DescribedArchive(layout, file)
        times = [seconds(lambda: list(banks_of(opened))) for _ in range(5)]
    yield Row("recognising the heads of its 200,000 entries", "none: seconds", times, unit="s")
