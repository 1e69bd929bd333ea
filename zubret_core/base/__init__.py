"""What every room shares: errors, progress, sample arrays, stream formats."""

from .collector import collector_paused
from .errors import Cancelled, ZubretError
from .format import Format, Loop
from .kept import Kept, once
from .pcm import to_float, to_int16
from .progress import Passes, Progress, in_words, silent, tell, told_to
from .room import room

__all__ = [
    "Cancelled",
    "Format",
    "Kept",
    "Loop",
    "Passes",
    "Progress",
    "ZubretError",
    "collector_paused",
    "in_words",
    "once",
    "room",
    "silent",
    "tell",
    "to_float",
    "to_int16",
    "told_to",
]
