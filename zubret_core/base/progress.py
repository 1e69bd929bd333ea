"""Progress of long functions."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[int, int, str], None]
"""progress(done, total, note): called often by long functions; it may raise `Cancelled`."""


def silent(done: int, total: int, note: str) -> None:
    """The progress callback of those who do not want to know."""
