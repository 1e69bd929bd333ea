"""The folders that may be read: those that are set from outside, and those that the user allowed."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit
from urllib.request import url2pathname

from django.conf import settings

from zubret_core.container import GameFolder
from zubret_core.install import Store, as_it_was

from ..errors import stopped
from .models import AllowedFolder, Game

QUOTES = "\"'`“”„‘’‚«»"


def store_of(game: Game) -> Store:
    """What is kept beside a game that something is installed into. It is found by the folder, not by the row: a game that was
    forgotten and is registered again has it still."""
    return _store(settings.DATA_DIR, game.folder)


@lru_cache(maxsize=64)
def _store(data: Path, folder: str) -> Store:
    name = hashlib.blake2b(folder.encode(), digest_size=8).hexdigest()
    return Store(data / "installed" / name)


def original_folder(game: Game) -> GameFolder:
    """A game's files as they are without anything installed: what Zubret reads everywhere."""
    return as_it_was(Path(game.folder), store_of(game))


def roots() -> list[Path]:
    """The folders below which games may be chosen."""
    return [*settings.LIBRARY_ROOTS, *map(Path, AllowedFolder.objects.order_by("path").values_list("path", flat=True))]


def is_below(place: Path, root: Path) -> bool:
    """Whether a folder is another one, or inside it."""
    return place == root or root in place.parents


def named(text: str) -> Path:
    """The folder that a pasted text names, links and `..` resolved; a file stands for the folder it lies in.

    Spellings: in quotes, with `~`, as an address (RFC 8089), as a shell wants it, with backslashes. An error where no folder
    is there.
    """
    for place in _places(text):
        with suppress(OSError, ValueError):  # too long, or not to be looked at
            if place.exists():
                found = place.resolve()
                return found if found.is_dir() else found.parent
    raise stopped(404, "There is no such folder, or it may not be read.", _instead(text), text[:200])


def _places(text: str) -> Iterator[Path]:
    """The whole paths that a text may mean."""
    text = _bare(text)
    spellings = [url2pathname(urlsplit(text).path)] if text.lower().startswith("file:") else []
    for spelling in (*spellings, text, re.sub(r"\\(.)", r"\1", text), text.replace("\\", "/")):
        with suppress(RuntimeError):  # nobody is called so
            place = Path(spelling).expanduser()
            if place.is_absolute():
                yield place


def _bare(text: str) -> str:
    return text.strip().strip(QUOTES).strip()


def _instead(text: str) -> str:
    if os.name != "nt" and re.match(r"[A-Za-z]:[\\/]", _bare(text)):
        return "This is a path of Windows. Here its drive has another place: look below /mnt, /media or /run/media."
    for above in (above for place in _places(text) for above in place.parents):
        with suppress(OSError, ValueError):
            if above.is_dir():
                return f"Correct the path; {above} is there."
    return "Give the whole path, from the drive or the root on."


def allowed(text: str) -> Path:
    """A folder below those that may be read; an error for any other."""
    place = named(text)
    if not any(is_below(place, root) for root in roots()):
        raise stopped(
            403,
            "This folder is outside the folders that Zubret may read.",
            "Let Zubret read it where games are chosen, or on the settings page; or choose another.",
            text[:200],
        )
    return place


def folders_in(path: str, offset: int, limit: int) -> dict[str, Any]:
    """Some of the folders inside one, for choosing a game, by name; with no path the roots themselves. total: of all;
    outside: it may not be read yet, and nothing of it is told."""
    if not path:
        found, parent, inside = "", None, [(str(root), str(root)) for root in roots()]
    else:
        place = named(path)
        if not any(is_below(place, root) for root in roots()):
            return {"path": str(place), "parent": "", "rows": [], "total": 0, "outside": True}
        try:
            with os.scandir(place) as listed:
                inside = sorted((e.name, e.path) for e in listed if not e.name.startswith(".") and _opens(e))
        except OSError as e:
            raise stopped(403, f"The folder can't be listed: {e.strerror}.", "Choose another folder.", path) from e
        found, parent = str(place), "" if place in roots() else str(place.parent)
    some = [{"name": name, "path": path} for name, path in inside[offset : offset + limit]]
    return {"path": found, "parent": parent, "rows": some, "total": len(inside), "outside": False}


def _opens(entry: os.DirEntry) -> bool:
    """Whether this is a folder that can be looked into."""
    return entry.is_dir() and os.access(entry.path, os.R_OK | os.X_OK)


def allow(text: str) -> None:
    """Let a folder be read, with all that is in it; once for all."""
    place, own = named(text), settings.DATA_DIR.resolve()
    if os.name != "nt" and place == place.parent:
        raise stopped(403, "This is the whole machine.", "Choose the folder in which the game is installed.", text)
    if is_below(place, own):
        raise stopped(403, "Zubret keeps its own data here.", "Choose the game's own folder.", text)
    if not os.access(place, os.R_OK | os.X_OK):
        raise stopped(403, "This folder can't be looked into.", "Change its rights, or choose another.", text)
    if not any(is_below(place, root) for root in roots()):
        AllowedFolder.objects.create(path=str(place))


def forbid(folder: AllowedFolder) -> None:
    """Let a folder be read no longer; an error while a game lies in it that is below no other one."""
    others = [root for root in roots() if root != Path(folder.path)]
    for game in Game.objects.all():
        place = Path(game.folder)
        if is_below(place, Path(folder.path)) and not any(is_below(place, root) for root in others):
            raise stopped(409, f"The game {game.name} lies in this folder.", "Forget the game first.", game.folder)
    folder.delete()


def all_allowed() -> list[dict[str, Any]]:
    """All of them as they are shown; id: none where it is set from outside; there: it can be looked into now."""
    games = [Path(folder) for folder in Game.objects.values_list("folder", flat=True)]
    rows: list[tuple[int | None, str]] = [(None, str(root)) for root in settings.LIBRARY_ROOTS]
    rows += AllowedFolder.objects.order_by("path").values_list("pk", "path")
    return [
        {
            "id": pk,
            "path": path,
            "games": sum(is_below(game, Path(path)) for game in games),
            "there": os.access(path, os.R_OK | os.X_OK),
        }
        for pk, path in rows
    ]
