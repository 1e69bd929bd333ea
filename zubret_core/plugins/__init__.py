"""Plug-ins: packing steps and codecs from installed Python packages, each asked in a process of its own."""

from .asking import CODECS, STEPS, PlugIn, ask, close_all, installed

__all__ = ["CODECS", "STEPS", "PlugIn", "ask", "close_all", "installed"]
