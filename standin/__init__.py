"""Saltglass Ferry: a game that exists only so that Zubret has one to work on.

It makes its own folder and plays from it, with formats and decoders of its own. It shares no
code with zubret_core, so that agreement between the two is evidence.
"""
