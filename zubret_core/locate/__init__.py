"""Finding the sound: which files are archives, which entries are banks, which streams they hold."""

from .holders import Holders
from .known import KeyTrial, Kind, Known, Locked, chosen_keys, key_bytes, try_keys
from .locator import Locator
from .names import names_by_id
from .reads import LoadOrder, Mount
from .recognise import kind_of, open_archive, open_bank
from .spot import Spot
from .survey import BankRecord, banks_of

__all__ = [
    "BankRecord",
    "Holders",
    "KeyTrial",
    "Kind",
    "Known",
    "LoadOrder",
    "Locator",
    "Locked",
    "Mount",
    "Spot",
    "banks_of",
    "chosen_keys",
    "key_bytes",
    "kind_of",
    "names_by_id",
    "open_archive",
    "open_bank",
    "try_keys",
]
