"""The layout language: a YAML description of a format that both reads and writes it."""

from .checked import read_layout
from .document import Document
from .document.extent import NewItem
from .language.load_rules import LoadRules
from .language.schema import Layout
from .loading import layout_named, load, load_layout, load_rules, shipped, shipped_layouts, shipped_rules, shipped_texts
from .reading.marks import fits_by_name, has_marks, recognises
from .writing.build import rebuild, relisted

__all__ = [
    "Document",
    "Layout",
    "LoadRules",
    "NewItem",
    "fits_by_name",
    "has_marks",
    "layout_named",
    "load",
    "load_layout",
    "load_rules",
    "read_layout",
    "rebuild",
    "recognises",
    "relisted",
    "shipped",
    "shipped_layouts",
    "shipped_rules",
    "shipped_texts",
]
