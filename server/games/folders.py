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


def folders_in(path: str) -> dict[str, Any]:
    """The folders inside one, for choosing a game; with no path the roots themselves."""
    if not path:
        return {
            "path": "",
            "parent": None,
            "folders": [{"name": str(r), "path": str(r)} for r in settings.LIBRARY_ROOTS],
        }
    place = allowed(path)
    try:
        inside = sorted((p for p in place.iterdir() if p.is_dir() and not p.name.startswith(".")), key=lambda p: p.name)
    except OSError as e:
        raise stopped(403, f"The folder can't be listed: {e.strerror}.", "Choose another folder.", path) from e
    parent = "" if place in settings.LIBRARY_ROOTS else str(place.parent)
    return {
        "path": str(place),
        "parent": parent,
        "folders": [{"name": p.name, "path": str(p)} for p in inside if os.access(p, os.R_OK | os.X_OK)],
    }
