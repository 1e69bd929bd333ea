"""Progress of long functions."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Progress = Callable[[int, int, str], None]
"""progress(done, total, note): called often by long functions; it may raise `Cancelled`."""


def silent(done: int, total: int, note: str) -> None:
    """The progress callback of those who do not want to know."""


_listener: ContextVar[Progress] = ContextVar("listener", default=silent)


@contextmanager
def told_to(progress: Progress) -> Iterator[None]:
    """Within this, what takes long deep inside other work (unpacking, packing) is told here, and can be cancelled there."""
    token = _listener.set(progress)
    try:
        yield
    finally:
        _listener.reset(token)


def tell(done: int, total: int, note: str) -> None:
    """Tell whoever listens on this thread."""
    _listener.get()(done, total, note)


def in_words(done: int, total: int, note: str) -> str:
    """How far it is, where the bar can't show that."""
    return f"{note}, {100 * done / total:.1f} %" if total else note


class Passes:
    """One bar for work of several passes over as many bytes as their weights say. It never runs back: a pass that counts
    anew, or does not know how much it has to do, leaves the bar where it is; the words say how far that pass is."""

    UNITS = 1 << 30

    def __init__(self, progress: Progress, *weights: float):
        self._progress, self._weights = progress, [max(w, 0.0) for w in weights]
        self._all, self._far = sum(self._weights) or 1.0, 0.0

    def __getitem__(self, number: int) -> Progress:
        """The progress of one pass."""
        before, own = sum(self._weights[:number]), self._weights[number]

        def step(done: int, total: int, note: str) -> None:
            share = min(1.0, max(0.0, done / total)) if total else 0.0
            far = (before + own * share) / self._all
            if far < self._far:
                note = in_words(done, total, note)
            self._far = max(self._far, far)
            self._progress(int(self._far * self.UNITS), self.UNITS, note)

        return step
