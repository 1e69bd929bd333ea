"""The layout language: a YAML description of a format that both reads and writes it."""

from .checked import read_layout
from .document import Document
from .document.extent import NewItem
from .language.schema import Layout
from .loading import layout_named, load_layout, shipped_layouts, shipped_texts
from .reading.read import recognises
from .writing.build import rebuild, relisted

__all__ = [
    "Document",
    "Layout",
    "NewItem",
    "layout_named",
    "load_layout",
    "read_layout",
    "rebuild",
    "recognises",
    "relisted",
    "shipped_layouts",
    "shipped_texts",
]
