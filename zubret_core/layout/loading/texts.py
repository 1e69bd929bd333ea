"""The texts that ship with Zubret."""

from __future__ import annotations

from functools import cache
from pathlib import Path


@cache
def shipped_texts() -> dict[str, str]:
    """The texts of all of them by their file names."""
    folder = Path(__file__).parents[1] / "shipped"
    return {f.name: f.read_text("utf-8") for f in sorted(folder.glob("*.yaml"))}
