"""Room for what may be larger than memory: nameless files, which are gone when nobody holds them any more."""

from __future__ import annotations

import mmap
import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryFile, gettempdir
from typing import IO, Any
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import DTypeLike, NDArray

IN_MEMORY = 32 << 20
"""Bytes up to which no file is needed."""

_files: WeakKeyDictionary[mmap.mmap, IO[bytes]] = WeakKeyDictionary()


def nameless() -> IO[bytes]:
    """A new file in the folder for temporary files, for reading and writing; on Linux it can be `named` (open(2), O_TMPFILE)."""
    if hasattr(os, "O_TMPFILE"):
        with suppress(OSError):  # not every file system can
            return os.fdopen(os.open(gettempdir(), os.O_TMPFILE | os.O_RDWR, 0o666), "w+b")
    return TemporaryFile()


def named(what: IO[bytes] | memoryview, place: Path) -> bool:
    """Give a nameless file, or the one in which a view of `room` lies whole, a name on the same file system. False where it has
    to be copied instead."""
    file = _behind(what) if isinstance(what, memoryview) else what
    if file is None or (isinstance(what, memoryview) and os.fstat(file.fileno()).st_size != what.nbytes):
        return False
    number = file.fileno()
    try:
        os.link(f"/proc/self/fd/{number}", place, src_dir_fd=number)  # with a folder's number it follows the link
    except OSError:
        return False
    return True


def room(shape: int | tuple[int, ...], dtype: DTypeLike) -> NDArray:
    """An array of zeros; a large one lies in a nameless file, whose pages the system takes back when it needs memory.

    OSError where the disk has too little room: that is found here, not while the array is written.
    """
    size = int(np.prod(shape)) * np.dtype(dtype).itemsize
    if size <= IN_MEMORY:
        return np.zeros(shape, dtype)
    file = nameless()
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(file.fileno(), 0, size)
    else:
        for at in range(0, size, 1 << 20):
            file.write(bytes(min(1 << 20, size - at)))
        file.flush()
    return np.frombuffer(_mapped(file), dtype).reshape(shape)


def gathered(pieces: Iterable[bytes]) -> memoryview:
    """Bytes that come piece by piece as one; many lie in a nameless file."""
    held, file = bytearray(), None
    for piece in pieces:
        if file is None and len(held) + len(piece) > IN_MEMORY:
            file = nameless()
            file.write(held)
        if file is None:
            held += piece
        else:
            file.write(piece)
    if file is None:
        return memoryview(held).toreadonly()
    file.flush()
    return memoryview(_mapped(file))


def _mapped(file: IO[bytes]) -> mmap.mmap:
    found = mmap.mmap(file.fileno(), 0)
    _files[found] = file
    return found


def _behind(view: memoryview) -> IO[bytes] | None:
    """The file in which a view lies."""
    found: Any = view
    while isinstance(found, (memoryview, np.ndarray)):
        found = found.obj if isinstance(found, memoryview) else found.base
    return _files.get(found) if isinstance(found, mmap.mmap) else None
