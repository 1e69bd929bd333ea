"""Finding the sound: which files are archives, which entries are banks, which streams they hold."""

from .locator import Locator, open_bank_at, open_stream, stream_in
from .recognise import FoundBank, banks_of, open_archive, open_bank

__all__ = ["FoundBank", "Locator", "banks_of", "open_archive", "open_bank", "open_bank_at", "open_stream", "stream_in"]
