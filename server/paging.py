"""How lists are asked for in pages."""

from __future__ import annotations

from typing import Annotated

from ninja import Field

Offset = Annotated[int, Field(ge=0, lt=1 << 53)]
"""Rows that are passed over."""
MOST = 500
"""Rows of a page at most."""
Limit = Annotated[int, Field(ge=0, le=MOST)]
"""Rows of a page."""
