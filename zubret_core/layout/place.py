"""A region where it stands in a file."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..source import Source
from ..source.steps import Chain
from .model import Region
from .records import Records


@dataclass
class Place:
    """A region where it stands.

    file: the companion's name, "" for the described file; at, stored: its bytes there; content: its unpacked
    bytes; rows: the records that are items (a sentinel is none, nor is a record that holds others); body: for
    regions with bodies, place and bytes of each record's body; inside: the record that each record stands in, -1
    at the top.
    """

    region: Region
    file: str
    at: int
    stored: int
    content: Source
    records: Records
    chain: Chain = field(default_factory=Chain)
    rows: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    body: NDArray[np.int64] | None = None
    inside: list[int] = field(default_factory=list)
