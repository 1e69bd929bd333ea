"""Files that are there whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from secrets import token_hex

PART = ".zubret-part"
"""The ending of a file that is being written. Only Zubret gives it: what a cut leaves with it may be removed."""


@contextmanager
def whole(place: Path) -> Iterator[Path]:
    """A path in the folder of `place` to write to; what stands there takes its place at the end. On any fault, a cancel
    included, it is removed, and `place` is as it was."""
    part = place.with_name(token_hex(8) + PART)
    try:
        yield part
        os.replace(part, place)
    finally:
        part.unlink(missing_ok=True)


def sync_folder(folder: Path) -> None:
    """Make the names in a folder lasting; Windows neither needs nor allows it."""
    if os.name == "nt":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def remove_parts(folder: Path) -> None:
    """Remove what processes that were cut off left below a folder."""
    for part in folder.rglob(f"*{PART}"):
        with suppress(OSError):
            part.unlink()
