"""The folders that may be read."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from django.conf import settings

from ..errors import stopped


def allowed(path: str) -> Path:
    """A folder inside the library roots; an error for any other, `..` and links resolved."""
    place = Path(path).resolve()
    if not any(place == root or root in place.parents for root in settings.LIBRARY_ROOTS):
        roots = ", ".join(str(r) for r in settings.LIBRARY_ROOTS)
        raise stopped(
            403, "This folder is outside the folders that Zubret may read.", f"Choose one below {roots}.", path
        )
    if not place.is_dir():
        raise stopped(404, "There is no such folder.", "Choose one from the list.", path)
    return place


def folders_in(path: str, offset: int, limit: int) -> dict[str, Any]:
    """Some of the folders inside one, for choosing a game, by name; with no path the roots themselves. total: of all."""
    if not path:
        found, parent, inside = "", None, [(str(root), str(root)) for root in settings.LIBRARY_ROOTS]
    else:
        place = allowed(path)
        try:
            with os.scandir(place) as listed:
                inside = sorted((e.name, e.path) for e in listed if not e.name.startswith(".") and _opens(e))
        except OSError as e:
            raise stopped(403, f"The folder can't be listed: {e.strerror}.", "Choose another folder.", path) from e
        found, parent = str(place), "" if place in settings.LIBRARY_ROOTS else str(place.parent)
    some = [{"name": name, "path": path} for name, path in inside[offset : offset + limit]]
    return {"path": found, "parent": parent, "rows": some, "total": len(inside)}


def _opens(entry: os.DirEntry) -> bool:
    """Whether this is a folder that can be looked into."""
    return entry.is_dir() and os.access(entry.path, os.R_OK | os.X_OK)
