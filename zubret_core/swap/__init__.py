"""Replacing one stream: the fit report, the treatment, the encoded result."""

from .encode import Prepared, prepare
from .fit import AudioInfo, FitPoint, FitReport, fit_report, info_of
from .treatment import Target, Treatment, target_of

__all__ = [
    "AudioInfo",
    "FitPoint",
    "FitReport",
    "Prepared",
    "Target",
    "Treatment",
    "fit_report",
    "info_of",
    "prepare",
    "target_of",
]
