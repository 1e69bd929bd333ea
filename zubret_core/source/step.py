"""What a transform step can do."""

from __future__ import annotations

from collections.abc import Iterator

from .base import Source


class Step:
    """One transform. `packed` inverts `unpacked`; both leave their argument as it is."""

    view = False
    """Whether every byte keeps its place, so that the result can be read anywhere at no cost."""

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source | Iterator[bytes]:
        """The bytes that `stored` stands for: `size` of them, or at most so many where not `exact`."""
        raise TypeError(f"{type(self).__name__} can't be unpacked")

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        """The bytes that stand for `plain`, packed in the manner of `like` where there is such a source."""
        raise TypeError(f"{type(self).__name__} can't be packed")
