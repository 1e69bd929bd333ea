"""What is compiled: for the first time in several processes, then loaded by each that begins, so that no click waits for it."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

from .audio import limiter, loudness
from .codec import CODECS
from .sift import flac, marks

PARTS: tuple[Callable[[], None], ...] = (
    *(codec.warm for codec in CODECS.values()),
    marks.warm,
    flac.warm,
    limiter.warm,
    loudness.warm,
)
"""Each runs kernels of its own once, which has them compiled, or loaded from the cache."""
MOST = 4
"""Processes at most: the longest part takes a fifth of the whole."""


def load() -> None:
    """All of it, in this process."""
    for part in PARTS:
        part()


def compile_side_by_side() -> None:
    """Fill the cache."""
    with ProcessPoolExecutor(min(MOST, os.cpu_count() or 1), mp_context=get_context("spawn")) as pool:
        list(pool.map(_part, range(len(PARTS))))


def _part(number: int) -> None:
    PARTS[number]()


if __name__ == "__main__":
    compile_side_by_side()
