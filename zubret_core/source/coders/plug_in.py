"""A way of packing that an installed plug-in brings."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from ...plugins import STEPS, ask
from ..base import Source
from .base import PIECE

SPARE = 1 << 16
"""Bytes that packing may add to what is packed, besides doubling it."""


@dataclass(frozen=True)
class PlugInCoder:
    """name: of the plug-in; settings: what the layout gives it, (name, value) in the order of their names."""

    name: str
    settings: tuple[tuple[str, Any], ...] = ()

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """See `Coder`."""
        data = stored.read(0, stored.size)
        out = ask(STEPS, self.name, dict(self.settings), "unpack", data, [size], most=size)
        return (out[at : at + PIECE] for at in range(0, len(out), PIECE))

    def packed(self, plain: Source) -> Iterator[bytes]:
        """See `Coder`."""
        data = plain.read(0, plain.size)
        yield ask(STEPS, self.name, dict(self.settings), "pack", data, most=2 * plain.size + SPARE)
