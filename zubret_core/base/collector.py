"""Pausing Python's cyclic collector while very many objects are made."""

from __future__ import annotations

import gc
import threading
from collections.abc import Iterator
from contextlib import contextmanager

_lock = threading.Lock()
_paused = 0
_was_on = False


@contextmanager
def collector_paused() -> Iterator[None]:
    """No cyclic collection meanwhile, in any thread: of objects that are made by the hundred thousand and all stay, it would
    look through more and more, again and again, to find nothing. It goes on once nobody wants it paused."""
    global _paused, _was_on
    with _lock:
        if not _paused:
            _was_on = gc.isenabled()
            gc.disable()
        _paused += 1
    try:
        yield
    finally:
        with _lock:
            _paused -= 1
            if not _paused and _was_on:
                gc.enable()
