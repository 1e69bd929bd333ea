"""What is set from outside, by the variables ZUBRET_*.

Only the standard library: the launcher reads them before anything is installed.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path


def data_home() -> Path:
    """Where Zubret keeps its data: ZUBRET_DATA_DIR, or the system's usual place."""
    if chosen := os.environ.get("ZUBRET_DATA_DIR"):
        return Path(chosen).expanduser().resolve()
    if os.name == "nt":
        return Path(os.environ.get("LOCALAPPDATA") or Path.home() / "AppData" / "Local") / "Zubret"
    if sys.platform == "darwin":
        return Path.home() / "Library" / "Application Support" / "Zubret"
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "zubret"


def data_folder() -> Path:
    """The folder of this process: the launcher gives each of those that it starts one below the place above."""
    return data_home() if os.environ.get("ZUBRET_DATA_DIR") else data_home() / "run"


def port() -> str:
    """ZUBRET_PORT as it is written."""
    return os.environ.get("ZUBRET_PORT") or "8377"


def library_roots() -> list[Path]:
    """Folders below which games may be chosen: ZUBRET_LIBRARY_ROOTS, or the user's own."""
    given = os.environ.get("ZUBRET_LIBRARY_ROOTS") or str(Path.home())
    return [Path(p).resolve() for p in given.split(os.pathsep) if p]


def web_dist(usual: Path) -> Path:
    """Where the built screens are."""
    return Path(os.environ.get("ZUBRET_WEB_DIST") or usual)


def jobs_at_once() -> bool:
    """Whether jobs are done by the process that starts them, before it goes on: for tests and measurements."""
    return os.environ.get("ZUBRET_JOBS") == "at once"


def launched() -> bool:
    """Whether the launcher started this process, and ends it."""
    return bool(os.environ.get("ZUBRET_LAUNCHED"))


def prepares() -> bool:
    """Whether this process brings the database up to date before it begins."""
    return bool(os.environ.get("ZUBRET_PREPARE"))
