"""What every room shares: errors, progress, sample arrays, stream formats."""

from .collector import collector_paused
from .errors import Cancelled, ZubretError
from .format import Format, Loop
from .kept import Kept, once
from .pcm import Samples, Signal, to_float, to_int16
from .progress import Passes, Progress, in_words, silent, tell, told_to
from .room import gathered, named, nameless, room

__all__ = [
    "Cancelled",
    "Format",
    "Kept",
    "Loop",
    "Passes",
    "Progress",
    "Samples",
    "Signal",
    "ZubretError",
    "collector_paused",
    "gathered",
    "in_words",
    "named",
    "nameless",
    "once",
    "room",
    "silent",
    "tell",
    "to_float",
    "to_int16",
    "told_to",
]
