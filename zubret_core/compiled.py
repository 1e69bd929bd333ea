"""What is compiled: for the first time in several processes, then loaded, so that no click waits for it."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

from .audio import edges, limiter, loudness, waveform
from .codec import CODECS, frames
from .layout.language import expression
from .layout.reading import scan
from .layout.types import texts
from .locate import tables
from .sift import flac, marks
from .source import ends, locks, sums
from .source.coders import huffman, lzo, lzss, runs

PARTS: tuple[Callable[[], None], ...] = (
    scan.warm,
    *(codec.warm for codec in CODECS.values()),
    *(part.warm for part in (expression, texts, waveform, edges, limiter, loudness, frames, marks, flac)),
)
"""Each runs kernels of its own once, which has them compiled, or loaded from the cache: what most games need."""
SELDOM: tuple[Callable[[], None], ...] = tuple(
    part.warm for part in (lzss, huffman, runs, lzo, sums, locks, ends, tables)
)
"""The others, loaded where they are used; the longest first."""
ALL = SELDOM + PARTS
"""All that is compiled."""
MOST = 4
"""Processes at most: the longest part takes a fifth of the whole."""


def load() -> None:
    """What most games need, in this process."""
    for part in PARTS:
        part()


def compile_side_by_side() -> None:
    """Fill the cache."""
    with ProcessPoolExecutor(min(MOST, os.cpu_count() or 1), mp_context=get_context("spawn")) as pool:
        list(pool.map(_part, range(len(ALL))))


def _part(number: int) -> None:
    ALL[number]()


if __name__ == "__main__":
    compile_side_by_side()
