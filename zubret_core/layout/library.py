"""The layouts that ship with Zubret."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from ..base import ZubretError
from .load import load_layout
from .model import Layout


@cache
def shipped_layouts() -> tuple[Layout, ...]:
    """All shipped layouts, by file name."""
    folder = Path(__file__).parent / "shipped"
    return tuple(load_layout(f.read_text("utf-8"), f.name) for f in sorted(folder.glob("*.yaml")))


def layout_named(id: str) -> Layout:
    """The shipped layout with this id."""
    for layout in shipped_layouts():
        if layout.id == id:
            return layout
    raise ZubretError(f'No layout is named "{id}".', next="Survey the game again.")
