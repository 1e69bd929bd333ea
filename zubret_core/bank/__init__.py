"""Banks: what holds streams. Layout-described banks, and audio files that are one stream."""

from .audio_file import AudioFileBank
from .base import Bank, NewStream, Stream
from .described import DescribedBank

__all__ = ["AudioFileBank", "Bank", "DescribedBank", "NewStream", "Stream"]
