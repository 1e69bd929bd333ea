"""Replacing one stream: the fit report, the treatment, the encoded result."""

from .encode import Prepared, prepare
from .fit import FitPoint, FitReport, fit_report, fitted, stored_report
from .levels import Level, Match, level_of
from .sources import FILE, ORIGINAL, SILENCE, STORED, STREAM, original_source, silent_source, stored_source
from .treatment import Target, Treatment, target_of

__all__ = [
    "FILE",
    "ORIGINAL",
    "SILENCE",
    "STORED",
    "STREAM",
    "FitPoint",
    "FitReport",
    "Level",
    "Match",
    "Prepared",
    "Target",
    "Treatment",
    "fit_report",
    "fitted",
    "level_of",
    "original_source",
    "prepare",
    "silent_source",
    "stored_report",
    "stored_source",
    "target_of",
]
