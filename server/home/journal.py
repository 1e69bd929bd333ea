"""What users made is kept a second time: a small file beside the database, from which a new one is filled where the first is
damaged or gone. What surveys find is not in it: that is found again.
"""

from __future__ import annotations

import os
import sqlite3
import time
from contextlib import closing
from pathlib import Path

from django.db import connection, models

from ..games.models import AllowedFolder, ExportFolder, Game, Key, KeyChoice, NameList, Pin
from ..layouts.models import LayoutVersion, UserLayout
from ..mods.models import EntryFile, Mod, Preset, Swap, Turn
from ..shelf.models import Given, SavedSearch

MADE: tuple[type[models.Model], ...] = (
    Game, Key, KeyChoice, NameList, Pin, ExportFolder, AllowedFolder, Given, SavedSearch, UserLayout, LayoutVersion, Preset, Mod, Swap, EntryFile, Turn,
)  # fmt: skip
"""In an order in which each refers only to those before it. Triggers count every change of their tables in `home_made`."""
CUT = {"what": "The database had to be made anew.", "where": "", "next": "Press Try again, or drop another file."}


def place() -> Path:
    """The file beside the database."""
    database = Path(connection.settings_dict["NAME"])
    return database.with_name(f"{database.stem} journal.sqlite3")


APART = 5.0
"""Seconds between two writings at least."""


class _Kept:
    """The count of changes of which this process knows that they are in the file; when it may be written again."""

    number: int | None = None
    soonest = 0.0


_kept = _Kept()


def keep() -> bool:
    """Write the file anew, if something has changed since; whether it was written. It is there whole or not at all."""
    if time.monotonic() < _kept.soonest:
        return False
    with connection.cursor() as cursor:
        cursor.execute("SELECT number FROM home_made")
        (number,) = cursor.fetchone()
    if number == _kept.number:
        return False
    _kept.soonest = time.monotonic() + APART
    target = place()
    part = target.with_suffix(".part")
    part.unlink(missing_ok=True)
    try:
        with closing(sqlite3.connect(connection.settings_dict["NAME"], isolation_level=None)) as base:
            base.execute("ATTACH DATABASE ? AS kept", [str(part)])
            base.execute("BEGIN")  # all of one moment
            for table in ("home_made", *(model._meta.db_table for model in MADE)):
                base.execute(f"CREATE TABLE kept.{table} AS SELECT * FROM main.{table}")
            (number,) = base.execute("SELECT number FROM kept.home_made").fetchone()
            base.execute("COMMIT")
        os.replace(part, target)
    finally:
        part.unlink(missing_ok=True)
    _kept.number = number
    return True


def restore() -> int:
    """Fill a new database from the file; the number of games. What was being prepared says that it has to be tried again."""
    with connection.cursor() as cursor:
        cursor.execute("ATTACH DATABASE %s AS kept", [str(place())])
        try:
            for model in MADE:
                _copy(cursor, model)
        finally:
            cursor.execute("DETACH DATABASE kept")
    Swap.objects.filter(state__in=(Swap.READING, Swap.PREPARING)).update(state=Swap.FAILED, error=CUT)
    Swap.objects.update(step=0, undos=0, redos=0)  # its steps are not in the file
    return Game.objects.count()


def _copy(cursor, model: type[models.Model]) -> None:
    """The rows of one table; a table that the file of an earlier version lacks has none, and a column gets its usual value."""
    table, quote = model._meta.db_table, connection.ops.quote_name
    cursor.execute(f"PRAGMA kept.table_info({table})")
    there = {row[1] for row in cursor.fetchall()}
    if not there:
        return
    names, values, usual = [], [], []
    for field in model._meta.concrete_fields:
        names.append(quote(field.column))
        if field.column in there:
            values.append(quote(field.column))
        else:
            values.append("%s")
            usual.append(field.get_db_prep_save(field.get_default(), connection))
    columns = f"INSERT INTO main.{table} ({', '.join(names)}) SELECT {', '.join(values)}"
    cursor.execute(f"{columns} FROM kept.{table}", usual)
