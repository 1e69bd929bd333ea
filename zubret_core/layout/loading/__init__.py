"""From a text to a layout, or to load rules, that can be relied on."""

from .library import layout_named, shipped, shipped_layouts, shipped_rules, shipped_texts
from .text import load, load_layout, load_rules

__all__ = [
    "layout_named",
    "load",
    "load_layout",
    "load_rules",
    "shipped",
    "shipped_layouts",
    "shipped_rules",
    "shipped_texts",
]
