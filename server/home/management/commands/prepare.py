"""Make the database, or bring one of an earlier version up to date, after a copy of it was made."""

import sqlite3
from datetime import datetime
from pathlib import Path

from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError
from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor

from server.games.models import Game
from server.home import journal as journals
from server.surveys.surveying import start_survey

NUMBERED = ("mods", "builds", "exports", "trials")
"""Folders of the data whose folders and files are called by the numbers of rows."""


class Command(BaseCommand):
    help = "Bring the database up to date; what can't be done is told in a sentence."

    def handle(self, *args, **options):
        place = Path(connection.settings_dict["NAME"])
        place.parent.mkdir(parents=True, exist_ok=True)
        try:
            executor = MigrationExecutor(connection)
            old = bool(executor.loader.applied_migrations)
            if not executor.migration_plan(executor.loader.graph.leaf_nodes()):
                return
        except DatabaseError as e:
            if not self.is_damage(e):
                raise CommandError(f"the database {place} can't be opened ({e}). Try again in a moment.") from None
            self.move_away(place)
            old = False
        kept = self.copied(place) if old else None
        journal = not old and journals.place().exists()
        if not old and not journal:
            self.set_aside(place.parent)
        try:
            call_command("migrate", verbosity=0)
        except Exception as e:
            raise CommandError(
                f"the database {place} can't be brought up to date ({type(e).__name__}: {e}). "
                + (f"It stands as it was in {kept}: put that back and use the version of before, or move both away."
                   if kept else "Move it away, then start again.")
            ) from None  # fmt: skip
        if journal:
            self.restore()

    @staticmethod
    def is_damage(error: DatabaseError) -> bool:
        """Whether the file is none of a database, or not whole; not that it is busy."""
        cause = error.__cause__
        return isinstance(cause, sqlite3.DatabaseError) and not isinstance(cause, sqlite3.OperationalError)

    def move_away(self, place: Path) -> None:
        """A damaged database is kept for whoever wants to look at it."""
        connection.close()
        aside = place.with_name(f"{place.stem} damaged {_now()}.sqlite3")
        for ending in ("", "-wal", "-shm"):
            part = place.with_name(place.name + ending)
            if part.exists():
                part.rename(aside.with_name(aside.name + ending))
        self.stdout.write(f"The database was damaged; it is set aside in {aside}.")

    def restore(self) -> None:
        """What users made comes back from its journal, and their games are surveyed anew."""
        try:
            count = journals.restore()
        except (DatabaseError, OSError) as e:
            raise CommandError(
                f"what you made can't be read from {journals.place()} ({e}). Move that file and the database away, then "
                "start again: your games are then chosen anew."
            ) from None
        for game in Game.objects.all():
            start_survey(game)
        self.stdout.write(
            f"Names, marks, keys, layouts and mods of {count} {'game' if count == 1 else 'games'} are back; the games are "
            "surveyed anew."
        )

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
