"""What is kept beside a game: which of its files are not as they were, their backups, and the journal of an install on its way.

A store is a folder outside the game:

    ledger.json     every file that an install has changed: what was there, what is there now
    originals/...   the backups, at the same paths as in the game
    journal.json    only while an install is on its way: all its steps, and how far it is
    leaving/N       only then: what step N replaces, where that is no original
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from ..base import ZubretError
from ..lock import held_by, hold
from ..source.whole import sync_folder
from .files import Facts, write_text

VERSION = 1


@dataclass(frozen=True)
class Place:
    """A file that an install has changed. original: None where there was none; installed: None where it was set aside; by: whose
    it is, in words."""

    original: Facts | None
    installed: Facts | None
    by: str = ""


@dataclass
class Ledger:
    """All of them, by path; folders: those that an install has made, which go again when nothing is in them; of: what was installed
    last, in words of who asked."""

    places: dict[str, Place] = field(default_factory=dict)
    folders: list[str] = field(default_factory=list)
    of: str = ""

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready."""
        return {"version": VERSION, **asdict(self)}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Ledger:
        """The inverse."""
        known = {
            path: Place(_facts(place["original"]), _facts(place["installed"]), place["by"])
            for path, place in data["places"].items()
        }
        return cls(known, list(data["folders"]), data["of"])


def _facts(data: dict[str, Any] | None) -> Facts | None:
    return Facts(**data) if data else None


@dataclass(frozen=True)
class Step:
    """One file of an install. before: what is there, None for nothing; after: what will be; kept: where what is there stays meanwhile, below the store; staged: the name under which the
    new one waits in the same folder."""

    path: str
    before: Facts | None
    after: Facts | None
    kept: str
    staged: str


@dataclass(frozen=True)
class Journal:
    """An install on its way. phase: staging, while nothing of the game has been touched; turning, while its steps are done; back,
    while they are undone. ledger, then: what is kept beside the game now, and when all steps are done."""

    phase: str
    steps: list[Step]
    ledger: Ledger
    then: Ledger

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready."""
        steps = [asdict(step) for step in self.steps]
        both = {"ledger": self.ledger.as_dict(), "then": self.then.as_dict()}
        return {"version": VERSION, "phase": self.phase, "steps": steps, **both}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Journal:
        """The inverse."""
        steps = [Step(**{**s, "before": _facts(s["before"]), "after": _facts(s["after"])}) for s in data["steps"]]
        ledgers = Ledger.from_dict(data["ledger"]), Ledger.from_dict(data["then"])
        return cls(data["phase"], steps, *ledgers)


class Store:
    """The folder beside a game."""

    def __init__(self, root: Path):
        self.root = root
        self.originals = root / "originals"
        self._journal_file = root / "journal.json"
        self.ledger_file = root / "ledger.json"

    def backup(self, path: str) -> Path:
        """Where the original of a path is kept."""
        return self.originals / path

    def version(self) -> int:
        """Changes with the ledger; 0 where there is none."""
        try:
            stat = self.ledger_file.stat()
        except FileNotFoundError:
            return 0
        return hash((stat.st_mtime_ns, stat.st_size, stat.st_ino))

    def ledger(self) -> Ledger:
        """What is not as it was; empty where nothing was ever installed."""
        data = self._read(self.ledger_file)
        return Ledger.from_dict(data) if data else Ledger()

    def journal(self) -> Journal | None:
        """What was on its way when somebody was cut off, or is now."""
        data = self._read(self._journal_file)
        return Journal.from_dict(data) if data else None

    def write_ledger(self, ledger: Ledger) -> None:
        """On the disk when this ends."""
        write_text(self.ledger_file, json.dumps(ledger.as_dict(), indent=1))

    def write_journal(self, journal: Journal) -> None:
        """On the disk when this ends."""
        write_text(self._journal_file, json.dumps(journal.as_dict()))

    def end_journal(self) -> None:
        """There is none on its way."""
        self._journal_file.unlink(missing_ok=True)
        sync_folder(self.root)

    def begin(self) -> None:
        """From now on there is a ledger; an error where there are backups and it is gone, since nobody knows what they are then."""
        if self.ledger_file.exists():
            return
        if any(files for _, _, files in os.walk(self.originals)):
            raise ZubretError(
                "There are backups of this game, but not the list of what was installed.",
                file=str(self.originals),
                next="Copy them back into the game by hand, then move this folder away.",
            )
        self.write_ledger(Ledger())

    def tidy(self) -> None:
        """Remove what no file of the ledger needs; only while no install is on its way."""
        if not self.ledger_file.exists():
            return
        needed = {self.backup(path) for path, place in self.ledger().places.items() if place.original}
        for folder in (self.originals, self.root / "leaving"):
            for place in sorted(folder.rglob("*"), reverse=True):  # what is in a folder before the folder
                if not place.is_dir():
                    if place not in needed:
                        place.unlink()
                elif not any(place.iterdir()):
                    place.rmdir()

    @contextmanager
    def held(self) -> Iterator[None]:
        """Nobody else installs or restores within this; an error where somebody does."""
        self.root.mkdir(parents=True, exist_ok=True)
        place = self.root / "lock"
        handle = hold(place, f"process {os.getpid()}")
        if handle is None:
            who = held_by(place) or "another process"
            raise ZubretError(
                "Something is being installed into this game, or restored, already.",
                field=who,
                next="Wait until it is done, then try again.",
            )
        try:
            yield
        finally:
            os.close(handle)

    def _read(self, place: Path) -> dict[str, Any] | None:
        try:
            data = json.loads(place.read_text("utf-8"))
        except FileNotFoundError:
            return None
        except ValueError as e:
            raise ZubretError(
                "What is kept beside the game can't be read: it was damaged.",
                file=str(place),
                next=f"The originals are in {self.originals}, at the same paths as in the game. Copy them back by hand.",
            ) from e
        if data.get("version") != VERSION:
            raise ZubretError(
                "What is kept beside the game was written by another version of Zubret.",
                file=str(place),
                next="Restore the game with that version first.",
            )
        return data
