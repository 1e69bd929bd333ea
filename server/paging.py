"""How lists are asked for in pages."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from ninja import Field

Offset = Annotated[int, Field(ge=0, lt=1 << 53)]
"""Rows that are passed over."""
MOST = 500
"""Rows of a page at most."""
Limit = Annotated[int, Field(ge=0, le=MOST)]
"""Rows of a page."""


def next_of(places: Sequence[int], first: int) -> int:
    """Of some places of a list in their order, the first from one on, else from the start; -1 where there is none."""
    return next((place for place in places if place >= first), places[0] if places else -1)
