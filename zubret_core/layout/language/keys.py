"""Every key of the language's family, for a person who wrote one in a wrong place."""

from __future__ import annotations

from .load_rules import LoadRules
from .schema import Layout
from .terms import Strict

_WORDS = {"Layout": "the layout itself", "Region": "a region", "FieldModel": "a field", "BitPart": "a part of a field",
          "PayloadModel": "`payload`", "Stand": "`payload`", "End": "`end`", "SumModel": "a sum", "Body": "a body",
          "FileModel": "a file", "Guard": "`before` and `behind`", "KeyModel": "a key", "Mark": "a mark",
          "Line": "a line of a text file", "Known": "`recognise`", "Paths": "`paths`", "NewPlace": "`new`",
          "Reads": "an item of `reads`", "Beside": "`beside`", "LoadRules": "the load rules themselves"}  # fmt: skip
_GAME = {"Line", "Known", "Paths", "NewPlace", "Reads", "Beside", "LoadRules"}
"""The parts of load rules."""


def _parts(model: type[Strict]) -> list[type[Strict]]:
    return [part for one in model.__subclasses__() for part in (one, *_parts(one))]


def _places(of_game: bool) -> dict[str, list[str]]:
    out: dict[str, list[str]] = {}
    for part in _parts(Strict):
        if (part.__name__ in _GAME) == of_game:
            for key in part.model_fields:
                places = out.setdefault(key, [])
                if (word := _WORDS.get(part.__name__, "")) and word not in places:
                    places.append(word)
    return out


PLACES_OF_KEYS = {Layout: _places(False), LoadRules: _places(True)}
"""The keys of layouts and of load rules, and the names of the parts that may have each."""
