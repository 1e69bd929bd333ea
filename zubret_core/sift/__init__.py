"""Sounds that stand in bytes which nobody has described: found by a signature, believed after validation."""

from .find import Hit, sounds_in

__all__ = ["Hit", "sounds_in"]
