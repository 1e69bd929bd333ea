"""Names of entries as names of files: what no file system can hold, or what would lead elsewhere, is made safe."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import PurePosixPath
from typing import NamedTuple

_FORBIDDEN = re.compile(r'[<>:"|?*\x00-\x1f\x7f]')
_DEVICES = re.compile(r"(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])(\..*)?$", re.IGNORECASE)
LONGEST = 240
"""Bytes of one name at most: file systems allow 255, and a number or an ending may still come behind."""
MANIFEST = "zubret manifest.jsonl"
"""The name of the list that is written with what is taken out."""


class Target(NamedTuple):
    """Where an entry goes: a path below the export folder, and what was changed about its name, if anything."""

    path: str
    note: str


def safe_path(path: str) -> Target:
    """A relative path that every usual file system can hold and that never leads out of a folder.

    `..`, `.`, empty pieces, drive letters and leading slashes go; forbidden characters become `_`; device names and
    trailing dots get a `_`; bytes that do not decode are written as %XX; long names are cut before their ending.
    """
    text = path.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    text = re.sub(r"\\x([0-9a-f]{2})", lambda m: f"%{m[1].upper()}", text).replace("\\", "/")
    pieces, notes = [], []
    if text != path.replace("\\", "/"):
        notes.append("bytes that are no text are written as %XX")
    if text.startswith("/") or re.match(r"[A-Za-z]:", text):
        notes.append("it was absolute")
        text = re.sub(r"^[A-Za-z]:", "", text)
    for piece in text.split("/"):
        if piece in ("", ".", ".."):
            if piece == "..":
                notes.append("it led out of its folder")
            continue
        safe = _FORBIDDEN.sub("_", piece)
        safe = re.sub(r"[. ]+$", "_", safe)
        if _DEVICES.match(safe):
            safe = f"_{safe}"
        if len(safe.encode()) > LONGEST:
            safe = _shortened(safe)
        if safe != piece:
            notes.append(f"\"{piece[:40]}\" can't be a file's name everywhere")
        pieces.append(safe)
    if not pieces and not notes:
        notes.append("it had no name")
    return Target("/".join(pieces) or "_", "; ".join(dict.fromkeys(notes)))


def _shortened(name: str) -> str:
    ending = PurePosixPath(name).suffix[:20]
    room = LONGEST - len(ending.encode())
    return name.encode()[:room].decode("utf-8", "ignore") + ending


def targets_for(paths: Iterable[str], *, flat: bool = False, taken: Sequence[str] = ()) -> list[Target]:
    """A target for each path, all different even where capital letters do not count.

    flat: without folders. taken: paths that are not to be used.
    """
    used = {t.lower() for t in (*taken, MANIFEST)}
    folders: set[str] = set()
    last: dict[str, int] = {}  # the highest number that a name has been given
    out = []
    for path in paths:
        target, note = safe_path(path)
        if flat:
            target = target.rsplit("/", 1)[-1]
        clear = _clear_folders(target, used)
        free, n = clear, last.get(clear.lower(), 1)
        while free.lower() in used or free.lower() in folders:
            n += 1
            head, _, name = clear.rpartition("/")
            stem, dot, ending = name.rpartition(".") if "." in name[1:] else (name, "", "")
            free = f"{head}/{stem} ({n}){dot}{ending}" if head else f"{stem} ({n}){dot}{ending}"
        last[clear.lower()] = n
        if free != target:
            note = "; ".join(x for x in (note, f"{target} was taken already") if x)
        used.add(free.lower())
        parent = free.lower().rpartition("/")[0]
        while parent:
            folders.add(parent)
            parent = parent.rpartition("/")[0]
        out.append(Target(free, note))
    return out


def _clear_folders(path: str, used: set[str]) -> str:
    """The path with a `_` behind every folder that is a file's name already."""
    *folders, name = path.split("/")
    out = ""
    for piece in folders:
        out = f"{out}/{piece}" if out else piece
        while out.lower() in used:
            out += "_"
    return f"{out}/{name}" if out else name
