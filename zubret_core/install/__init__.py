"""Installing into a game's folder, and going back: what is there, what becomes of it, and never anything between."""

from .files import Facts
from .ledger import Ledger, Place, Store
from .state import CHANGED, INSTALLED, MISSING, ORIGINAL, Found, as_it_was, let_go, look
from .turning import Coming, Forecast, Outcome, Wanted, forecast, install, restore, settle

__all__ = [
    "CHANGED",
    "INSTALLED",
    "MISSING",
    "ORIGINAL",
    "Coming",
    "Facts",
    "Forecast",
    "Found",
    "Ledger",
    "Outcome",
    "Place",
    "Store",
    "Wanted",
    "as_it_was",
    "forecast",
    "install",
    "let_go",
    "look",
    "restore",
    "settle",
]
