"""From the text of a layout to a layout that can be relied on."""

from .library import layout_named, shipped_layouts, shipped_texts
from .text import load_layout

__all__ = ["layout_named", "load_layout", "shipped_layouts", "shipped_texts"]
