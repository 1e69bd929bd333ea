"""What every room shares: errors, progress, sample arrays, stream formats."""

from .errors import Cancelled, ZubretError
from .format import Format, Loop
from .kept import Kept, once
from .pcm import to_float, to_int16
from .progress import Progress, silent
from .room import room

__all__ = [
    "Cancelled",
    "Format",
    "Kept",
    "Loop",
    "Progress",
    "ZubretError",
    "once",
    "room",
    "silent",
    "to_float",
    "to_int16",
]
