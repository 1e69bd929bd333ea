"""The layouts that ship with Zubret."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from ...base import ZubretError
from ..language.schema import Layout
from .text import load_layout


@cache
def shipped_texts() -> dict[str, str]:
    """The texts of all shipped layouts by their file names."""
    folder = Path(__file__).parents[1] / "shipped"
    return {f.name: f.read_text("utf-8") for f in sorted(folder.glob("*.yaml"))}


@cache
def shipped_layouts() -> tuple[Layout, ...]:
    """All shipped layouts, by file name."""
    return tuple(load_layout(text, name) for name, text in shipped_texts().items())


def layout_named(id: str) -> Layout:
    """The shipped layout with this id."""
    for layout in shipped_layouts():
        if layout.id == id:
            return layout
    raise ZubretError(f'No layout is named "{id}".', next="Survey the game again.")
