"""The layout language: a YAML description of a format that both reads and writes it."""

from .library import layout_named, shipped_layouts, shipped_texts
from .load import load_layout
from .model import Layout
from .read import Reading, read_layout, recognises
from .write import NewItem, rebuild, relisted

__all__ = [
    "Layout",
    "NewItem",
    "Reading",
    "layout_named",
    "load_layout",
    "read_layout",
    "rebuild",
    "recognises",
    "relisted",
    "shipped_layouts",
    "shipped_texts",
]
