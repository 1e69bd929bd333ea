"""Replacing one stream: the fit report, the treatment, the encoded result."""

from .encode import Prepared, prepare
from .fit import FitPoint, FitReport, fit_report
from .treatment import Target, Treatment, target_of

__all__ = [
    "FitPoint",
    "FitReport",
    "Prepared",
    "Target",
    "Treatment",
    "fit_report",
    "prepare",
    "target_of",
]
