"""Reading a file and checking it: the one way from bytes to a document that others use."""

from __future__ import annotations

from ..base import ZubretError
from ..source import Source
from .checks.extents import check_extents
from .checks.sums import check_sums
from .document import Document, Siblings
from .document.chains import Keys
from .language.schema import Layout
from .reading.read import read_document


def read_layout(layout: Layout, source: Source, siblings: Siblings | None = None, keys: Keys | None = None) -> Document:
    """The file as the layout describes it; a ZubretError where it is not so.

    Sums over much of a large file are left to `checks.sums.verify`. Every error names the layout.
    """
    try:
        document = read_document(layout, source, siblings, keys)
        check_extents(document)
        check_sums(document, large=False)
        return document
    except ZubretError as e:
        if layout.id not in f"{e.what} {e.next}":
            e.next = f"{e.next or ''} It was read by the layout {layout.id}.".strip()
        raise
