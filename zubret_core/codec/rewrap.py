"""Packets of a payload as an Ogg file: the file is laid out once, and its pages are made when they are read."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Source
from . import ogg
from .framing import Framing, Window

FramesOf = Callable[[Window], NDArray[np.int64]]
"""Frames that each packet of a window adds; called once for each window, in order."""

AT, END, NUMBER, PACKETS, GRANULE, BODY, SEGMENTS = range(7)
"""Columns of a page's row: its bytes in the payload, its first packet, how many, and what its head says."""


@njit(cache=True)
def paginate(ends, sizes, frames, base, target, row, rows):
    """Put packets on pages; `row` is the page that is open, full ones go to rows.

    Returns (full pages, packets used): fewer than given where `target` is reached, -1 packets where one fits no page.
    """
    full = 0
    for n in range(len(sizes)):
        need = sizes[n] // 255 + 1
        if need > 255:
            return full, -1
        if row[PACKETS] and (row[BODY] >= 4096 or row[SEGMENTS] + need > 255):
            rows[full] = row
            full += 1
            row[AT], row[NUMBER] = row[END], row[NUMBER] + row[PACKETS]
            row[PACKETS] = row[BODY] = row[SEGMENTS] = 0
        row[PACKETS] += 1
        row[BODY] += sizes[n]
        row[SEGMENTS] += need
        row[END] = base + ends[n]
        row[GRANULE] += frames[n]
        if row[GRANULE] >= target:
            return full, n + 1
    return full, len(sizes)


class OggSource(Source):
    """An Ogg file of the packets in a payload, from packet number `skipped` on.

    headers: the header packets; frames_of: what each packet adds to the granule position; target: the last page's
    granule position, in frames. Packets that would begin behind it are left out. `held` is what the packets give.
    """

    def __init__(
        self,
        payload: Source,
        framing: Framing,
        headers: Sequence[bytes],
        frames_of: FramesOf,
        target: int,
        skipped: int = 0,
    ):
        self.name, self._payload, self._framing = payload.name, payload, framing
        self._head = ogg.header_pages(headers)
        self._rows, self.held = self._lay(frames_of, target, skipped)
        lengths = ogg.HEAD.size + self._rows[:, SEGMENTS] + self._rows[:, BODY]
        head = sum(map(len, self._head))
        self._places = head + np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        self._head_bytes = b"".join(self._head)
        self.size = int(self._places[-1])
        self._last: tuple[int, bytes] = -1, b""

    def _lay(self, frames_of: FramesOf, target: int, skipped: int) -> tuple[NDArray[np.int64], int]:
        row, pages, number = np.zeros(7, np.int64), [], 0
        for window in self._framing.windows(self._payload):
            here = len(window.sizes)
            skip = max(0, min(here, skipped - number))
            number += here
            window = window.behind(skip)
            if not len(window.sizes):
                continue
            if not row[NUMBER] and not row[PACKETS]:
                row[NUMBER] = skipped
                row[AT] = window.at + window.begins[0] - self._framing.lead
            rows = np.empty((len(window.sizes), 7), np.int64)
            full, used = paginate(window.ends, window.sizes, frames_of(window), window.at, target, row, rows)
            if used < 0:
                raise ZubretError(
                    "A packet is longer than an Ogg page can hold.",
                    file=self.name,
                    next="The stream is damaged, or its packets are framed in another way: check the layout's codec.",
                )
            pages.append(rows[:full].copy())
            if row[GRANULE] >= target:
                break
        held = int(row[GRANULE])
        if row[PACKETS]:
            row[GRANULE] = min(held, target)
            pages.append(row[None].copy())
        return np.concatenate(pages) if pages else np.zeros((0, 7), np.int64), held

    @property
    def ends(self) -> NDArray[np.int64]:
        """The granule position behind each page."""
        return self._rows[:, GRANULE]

    def packets(self, page: int) -> list[bytes]:
        """The packets of a page."""
        window = self._window(page)
        return [window.data[s : s + n].tobytes() for s, n in zip(window.starts, window.sizes, strict=True)]

    def _window(self, n: int) -> Window:
        row = self._rows[n].tolist()
        return self._framing.part(self._payload, row[AT], row[END], row[NUMBER], row[PACKETS])

    def _read(self, at: int, length: int) -> bytes:
        end, parts = at + length, []
        head = len(self._head_bytes)
        if at < head:
            parts.append(self._head_bytes[at:end])
        first = max(0, int(np.searchsorted(self._places, at, "right")) - 1)
        for n in range(first, len(self._rows)):
            place = int(self._places[n])
            if place >= end:
                break
            page = self._page(n)
            parts.append(page[max(0, at - place) : end - place])
        return b"".join(parts)

    def _page(self, n: int) -> bytes:
        last = self._last
        if last[0] != n:
            window, granule = self._window(n), int(self._rows[n, GRANULE])
            flags = ogg.LAST if n == len(self._rows) - 1 else 0
            number = len(self._head) + n
            last = n, ogg.page_of(flags, granule, number, window.data, window.starts, window.sizes)
            self._last = last
        return last[1]


def warm() -> None:
    """Compile the kernels."""
    one = np.ones(1, np.int64)
    paginate(one, one, one, 0, 1, np.zeros(7, np.int64), np.zeros((1, 7), np.int64))
