"""Make the database, or bring one of an earlier version up to date, after a copy of it was made."""

import sqlite3
from datetime import datetime
from pathlib import Path

from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor

NUMBERED = ("mods", "builds", "exports", "trials")
"""Folders of the data whose folders and files are called by the numbers of rows."""


class Command(BaseCommand):
    help = "Bring the database up to date; what can't be done is told in a sentence."

    def handle(self, *args, **options):
        place = Path(connection.settings_dict["NAME"])
        try:
            executor = MigrationExecutor(connection)
            old = bool(executor.loader.applied_migrations)
            if not executor.migration_plan(executor.loader.graph.leaf_nodes()):
                return
        except DatabaseError as e:
            raise CommandError(
                f"the database {place} is damaged ({e}). Move it away, then start again: your games are surveyed anew; the "
                f"files of your mods are set aside in {place.parent}."
            ) from None
        kept = self.copied(place) if old else None
        if not old:
            self.set_aside(place.parent)
        try:
            call_command("migrate", verbosity=0)
        except Exception as e:
            raise CommandError(
                f"the database {place} can't be brought up to date ({type(e).__name__}: {e}). "
                + (f"It stands as it was in {kept}: put that back and use the version of before, or move both away."
                   if kept else "Move it away, then start again.")
            ) from None  # fmt: skip

    def set_aside(self, data: Path) -> None:
        """Before a new database: what another one has left is not taken for its own, since its numbers begin anew."""
        left = [data / name for name in NUMBERED if (data / name).exists()]
        if left:
            aside = data / f"left {_now()}"
            aside.mkdir()
            for folder in left:
                folder.rename(aside / folder.name)
            self.stdout.write(f"Files of an earlier database are set aside in {aside}.")

    @staticmethod
    def copied(place: Path) -> Path:
        """A copy of the database as it is, beside it; its path."""
        kept = place.with_name(f"{place.stem} before {_now()}.sqlite3")
        with sqlite3.connect(kept) as copy:
            connection.ensure_connection()
            connection.connection.backup(copy)
        copy.close()
        return kept


def _now() -> str:
    return f"{datetime.now():%Y-%m-%d %H.%M.%S}"
