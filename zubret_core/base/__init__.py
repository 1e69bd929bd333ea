"""What every room shares: errors, progress, sample arrays, stream formats."""

from .errors import Cancelled, ZubretError
from .format import Format, Loop
from .pcm import to_float, to_int16
from .progress import Progress, silent

__all__ = ["Cancelled", "Format", "Loop", "Progress", "ZubretError", "silent", "to_float", "to_int16"]
