"""The layouts and load rules that ship with Zubret."""

from __future__ import annotations

from functools import cache

from ...base import ZubretError
from ..language.load_rules import LoadRules
from ..language.schema import Layout
from .text import load
from .texts import shipped_texts


@cache
def shipped() -> dict[str, Layout | LoadRules]:
    """What all of them say, by file name."""
    return {name: load(text, name) for name, text in shipped_texts().items()}


@cache
def shipped_layouts() -> tuple[Layout, ...]:
    """All shipped layouts, by file name."""
    return tuple(one for one in shipped().values() if isinstance(one, Layout))


@cache
def shipped_rules() -> tuple[LoadRules, ...]:
    """The load rules of all games that ship with some."""
    return tuple(one for one in shipped().values() if isinstance(one, LoadRules))


def layout_named(id: str) -> Layout:
    """The shipped layout with this id."""
    for layout in shipped_layouts():
        if layout.id == id:
            return layout
    raise ZubretError(f'No layout is named "{id}".', next="Survey the game again.")
