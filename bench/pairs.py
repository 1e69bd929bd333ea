"""Interleaved pairs: ours, theirs, ours, theirs; the ratio is taken pair by pair."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass
class Row:
    """One line of the table; ratios are ours / theirs, or a plain figure where there is no reference."""

    what: str
    reference: str
    ratios: list[float]
    limit: float | None = None
    note: str = ""
    unit: str = "x"

    @property
    def median(self) -> float:
        """The one in the middle."""
        return statistics.median(self.ratios)

    @property
    def holds(self) -> bool:
        """Whether it is within its limit."""
        return self.limit is None or self.median <= self.limit

    def text(self) -> str:
        """The line of the table."""
        limit = f"at most {self.limit:g}" if self.limit is not None else "reported"
        verdict = "" if self.limit is None else "holds" if self.holds else "FAILS"
        spread = f"{min(self.ratios):.2f} to {max(self.ratios):.2f}"
        return (
            f"{self.what:<58} {self.reference:<34} {self.median:7.2f} {self.unit:<3} {spread:<17} {limit:<12} {verdict}"
        )


def seconds(work: Callable[[], object]) -> float:
    """How long a call takes."""
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def pairs(
    what: str,
    ours: Callable[[], object],
    reference: str,
    theirs: Callable[[], object],
    limit: float | None,
    count: int = 7,
    before: Callable[[], object] = lambda: None,
) -> Row:
    """`count` interleaved pairs after one warm-up of each; `before` runs untimed before each call."""
    ratios, mine, other = [], [], []
    for n in range(count + 1):
        before()
        a = seconds(ours)
        before()
        b = seconds(theirs)
        if n:
            ratios.append(a / b)
            mine.append(a)
            other.append(b)
    note = f"{statistics.median(mine) * 1000:.1f} ms against {statistics.median(other) * 1000:.1f} ms"
    return Row(what, reference, ratios, limit, note)
