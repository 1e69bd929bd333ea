"""The body of a request. The HTTP server has put a large one into a nameless file before anybody reads it: what is read of it gives
its room on the disk back at once, so that an upload takes its own size there, and not twice that.

Linux only (fallocate(2), FALLOC_FL_PUNCH_HOLE); elsewhere the room goes when the request ends.
"""

from __future__ import annotations

import ctypes
import io
import sys
from collections.abc import Callable, Iterable
from typing import Any

STEP = 1 << 22
"""Bytes that are read before their room goes."""
HOLE, KEEP_SIZE = 2, 1
Application = Callable[[dict[str, Any], Any], Iterable[bytes]]


def given_back(application: Application) -> Application:
    """The same WSGI application (PEP 3333), whose large bodies give their room back as they are read."""

    def answer(environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        body = environ.get("wsgi.input")
        if sys.platform == "linux" and isinstance(body, io.BufferedRandom):
            environ["wsgi.input"] = Body(body)
        return application(environ, start)

    return answer


class Body:
    """A file that is read once, from its beginning to its end."""

    def __init__(self, file: io.BufferedRandom):
        self._file, self._read, self._gone = file, 0, 0
        self._fallocate = ctypes.CDLL(None).fallocate
        self._fallocate.argtypes = [ctypes.c_int, ctypes.c_int, ctypes.c_int64, ctypes.c_int64]

    def read(self, size: int = -1) -> bytes:
        """At most `size` bytes, or all that is left."""
        return self._gives(self._file.read(size))

    def readline(self, size: int = -1) -> bytes:
        """Bytes up to the end of the line, at most `size`."""
        return self._gives(self._file.readline(size))

    def _gives(self, data: bytes) -> bytes:
        self._read += len(data)
        if self._read - self._gone >= STEP:
            end = self._read // 4096 * 4096  # where it fails, the room stays until the request ends
            self._fallocate(self._file.fileno(), HOLE | KEEP_SIZE, self._gone, end - self._gone)
            self._gone = end
        return data
