"""What state a game's folder is in, against what Zubret has installed."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from pathlib import Path

from ..base import Kept, ZubretError
from ..container import GameFolder, SetBack
from .ledger import Store

INSTALLED, ORIGINAL, CHANGED, MISSING = "installed", "original", "changed", "missing"


@dataclass(frozen=True)
class Found:
    """A file that was installed or set aside. state: installed (as it was left), original (somebody has put it back), changed (by
    something else), missing; backup: whether its original, where there was one, is kept and has its size."""

    path: str
    state: str
    by: str
    backup: bool


def look(folder: GameFolder, store: Store, thorough: bool = False) -> list[Found]:
    """Of all files that an install has changed, by path. What has its size and time is taken to be what it was, unless thorough:
    then every file is read, backups too."""
    found = []
    for path, place in sorted(store.ledger().places.items()):
        where = folder.folder / path
        if place.installed.fits(where, thorough) if place.installed else not where.exists():
            state = INSTALLED
        elif not where.exists():
            state = MISSING if place.original else ORIGINAL
        else:
            state = ORIGINAL if place.original and place.original.fits(where, thorough) else CHANGED
        kept = place.original is None or place.original.fits(store.backup(path), thorough)
        found.append(Found(path, state, place.by, kept))
    return found


_folders: Kept[tuple[str, str, int], GameFolder] = Kept(32)
"""Games' folders as they were, by where they are, and by the ledger and its version: thousands of files are asked for one by one."""


def as_it_was(folder: Path, store: Store) -> GameFolder:
    """A game's folder without anything installed: what an install has changed is read from its backup."""
    key = os.path.realpath(folder), str(store.root), store.version()
    kept = _folders.get(key)
    if kept is None or not kept.folder.is_dir():
        changed = frozenset(store.ledger().places)
        made = SetBack(folder, store.originals, changed) if changed else GameFolder(folder)
        kept = _folders.put(key, made)
    return kept


def let_go(store: Store, paths: list[str]) -> None:
    """Leave files as they are, and forget that they were ever installed; their backups go. For what an update has replaced."""
    with store.held():
        if store.journal() is not None:
            raise ZubretError("An install was cut off.", next="Bring it to an end first: start Zubret again.")
        ledger = store.ledger()
        places = {path: place for path, place in ledger.places.items() if path not in paths}
        store.write_ledger(replace(ledger, places=places))
        store.tidy()
