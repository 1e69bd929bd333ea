"""A file that a process holds for as long as it lives, with a text in it for others to read.

The system lets go of the lock however the process ends. Nothing but Python's own library is used here, since the launcher
needs it, too.
"""

from __future__ import annotations

import os
import time
from pathlib import Path

_LOCKED = 1 << 20
"""The byte that is locked: far behind the text, which Windows would not let others read else."""

if os.name == "nt":
    import msvcrt

    def _lock(handle: int, look: bool) -> bool:
        os.lseek(handle, _LOCKED, os.SEEK_SET)
        try:
            msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined]
        except OSError:
            return False
        finally:
            os.lseek(handle, 0, os.SEEK_SET)
        return True

else:
    import fcntl

    def _lock(handle: int, look: bool) -> bool:
        try:
            fcntl.flock(handle, (fcntl.LOCK_SH if look else fcntl.LOCK_EX) | fcntl.LOCK_NB)
        except OSError:
            return False
        return True


def hold(place: Path, text: str, patience: float = 0.2) -> int | None:
    """Take the lock on a file and write a text into it: its handle, which lets go when it is closed. None where another
    process holds it; one that is ending is given some seconds of `patience`."""
    handle = os.open(place, os.O_RDWR | os.O_CREAT, 0o600)
    until = time.monotonic() + patience
    while not _lock(handle, look=False):  # somebody may just be looking
        if time.monotonic() > until:
            os.close(handle)
            return None
        time.sleep(0.02)
    data = text.encode()
    try:
        os.write(handle, data)
        os.ftruncate(handle, len(data))
    except OSError:  # a full disk
        os.close(handle)
        raise
    return handle


def held_by(place: Path) -> str | None:
    """The text of the process that holds a file; None where none does."""
    try:
        handle = os.open(place, os.O_RDWR)
    except FileNotFoundError:
        return None
    try:
        return None if _lock(handle, look=True) else os.read(handle, 1000).decode("utf-8", "replace")
    finally:
        os.close(handle)
