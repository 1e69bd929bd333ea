"""Files of an install: what is known of one, and copies that are on the disk before anybody relies on them."""

from __future__ import annotations

import hashlib
import os
import shutil
from dataclasses import dataclass
from pathlib import Path

from ..base import Progress, ZubretError, silent
from ..source.whole import sync_folder

PIECE = 1 << 20
"""Bytes that are read at once."""


@dataclass(frozen=True)
class Facts:
    """What is known of a file: its bytes, their SHA-256 (FIPS 180-4) in hex, and the time of its last change in ns."""

    size: int
    sha256: str
    mtime_ns: int

    def fits(self, place: Path, thorough: bool = False) -> bool:
        """Whether a file is this one. What has the same size and time is taken to be, unless it is looked at thoroughly; what
        has another time is read."""
        try:
            stat = place.lstat()
            if stat.st_size != self.size or not place.is_file():
                return False
            return (stat.st_mtime_ns == self.mtime_ns and not thorough) or digest(place) == self.sha256
        except FileNotFoundError:
            return False


def facts(place: Path, progress: Progress = silent) -> Facts:
    """Of a file, which is read for it."""
    stat = place.stat()
    return Facts(stat.st_size, digest(place, progress), stat.st_mtime_ns)


def digest(place: Path, progress: Progress = silent) -> str:
    """SHA-256 of a file in hex."""
    value, done = hashlib.sha256(), 0
    with open(place, "rb", buffering=0) as file:
        size = os.fstat(file.fileno()).st_size
        while piece := file.read(PIECE):
            value.update(piece)
            done += len(piece)
            progress(done, size, f"reading {place.name}")
    return value.hexdigest()


def copy(old: Path, new: Path, progress: Progress = silent) -> str:
    """Copy a file with its time and its rights, flushed to the disk (fsync), and read it back. SHA-256 of what was read; an error
    where the copy is another."""
    value, done = hashlib.sha256(), 0
    with open(old, "rb", buffering=0) as file, open(new, "wb", buffering=0) as out:
        size = os.fstat(file.fileno()).st_size
        while piece := file.read(PIECE):
            value.update(piece)
            rest = memoryview(piece)
            while len(rest):
                rest = rest[out.write(rest) :]
            done += len(piece)
            progress(done, size, f"writing {new.name if old.name in new.name else old.name}")
        os.fsync(out.fileno())
    shutil.copystat(old, new)
    if digest(new) != value.hexdigest():
        raise ZubretError(
            "What was written is not what is read back.", file=str(old), next="Check this disk, then install again."
        )
    return value.hexdigest()


def link_or_copy(old: Path, new: Path, progress: Progress = silent) -> None:
    """Give a file a second name on the same disk; where that can't be, copy it."""
    try:
        os.link(old, new)
    except FileExistsError:
        raise
    except OSError:
        copy(old, new, progress)
    sync_folder(new.parent)


def write_text(place: Path, text: str) -> None:
    """Put a small file there, whole or not at all, and on the disk when this ends."""
    part = place.with_name(place.name + ".new")
    with open(part, "w", encoding="utf-8") as out:
        out.write(text)
        out.flush()
        os.fsync(out.fileno())
    os.replace(part, place)
    sync_folder(place.parent)
