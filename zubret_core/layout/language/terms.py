"""Words that all parts of a layout share: names, numbers, bytes, and what a field may mean."""

from __future__ import annotations

import keyword
from typing import Annotated, Literal, NamedTuple

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from .expression import compiled

NAME = r"^[a-z][a-z0-9_]*$"


def _hex_bytes(value: object) -> object:
    """Bytes written as hexadecimal pairs, spaces allowed."""
    if isinstance(value, str):
        try:
            return bytes.fromhex(value)
        except ValueError:
            raise ValueError(f'"{value}" is not a row of hexadecimal byte pairs such as "4f 67"') from None
    return value


def _expression(value: int | str) -> int | str:
    compiled(value)  # NotAnExpression is a ValueError
    return value


HexBytes = Annotated[bytes, BeforeValidator(_hex_bytes, json_schema_input_type=str)]
FillByte = Annotated[HexBytes, Field(min_length=1, max_length=1)]
Number = Annotated[int | str, AfterValidator(_expression)]
"""A whole number, or an expression on fields."""
Bits = Annotated[Number, BeforeValidator(lambda v: v - (1 << 64) if isinstance(v, int) and v >> 63 == 1 else v)]
"""The same of which only the bits matter: a whole number of 64 bits, too."""
Order = Literal["little", "big"]
IntType = Literal["u8", "u16", "u24", "u32", "u40", "u48", "u56", "u64"]


def _no_keyword(name: str) -> str:
    if keyword.iskeyword(name):
        raise ValueError(f'"{name}" can\'t be used as a name: it would mean something else in an expression')
    return name


Name = Annotated[str, Field(pattern=NAME), AfterValidator(_no_keyword)]

NUMBER, TEXT, BYTES = "a whole number", "text", "bytes"
"""The kinds of values that a field can give and a meaning can take."""

BY_BYTES = ("bytes", "blocks", "frames")
BY_FRAMES = ("frames", "blocks", "bytes", "milliseconds", "seconds")


class Meaning(NamedTuple):
    """What a meaning is about (entry, stream, piece, point, folder, listed, row, or "" for the whole file), the kinds of values that it
    takes, and the units that may be named for it."""

    owner: str
    takes: tuple[str, ...]
    units: tuple[str, ...] = ()


_PLACED = {
    "at": Meaning("", (NUMBER,), BY_BYTES),
    "end": Meaning("", (NUMBER,), BY_BYTES),
    "stored": Meaning("", (NUMBER,), BY_BYTES),
    "size": Meaning("", (NUMBER,), BY_BYTES),
    "volume": Meaning("", (NUMBER,)),
    "head": Meaning("", (BYTES,)),
    "id": Meaning("", (NUMBER, TEXT, BYTES)),
    "name": Meaning("", (TEXT,)),
    "pieces": Meaning("", (NUMBER,)),
}
_BY_OWNER = {
    "entry": {
        **_PLACED,
        "path": Meaning("", (TEXT,)),
        "ending": Meaning("", (TEXT,)),
        "folder": Meaning("", (NUMBER, TEXT)),
        "method": Meaning("", (NUMBER, TEXT)),
    },
    "stream": {
        **_PLACED,
        "codec": Meaning("", (TEXT,)),
        "setup": Meaning("", (BYTES,)),
        "language": Meaning("", (TEXT,)),
        "label": Meaning("", (TEXT,)),
        "gain": Meaning("", (NUMBER,)),
        "priority": Meaning("", (NUMBER,)),
        "rate": Meaning("", (NUMBER,)),
        "channels": Meaning("", (NUMBER,)),
        "block_size": Meaning("", (NUMBER,)),
        "skip": Meaning("", (NUMBER,)),
        "cut": Meaning("", (NUMBER,)),
        "frames": Meaning("", (NUMBER,), BY_FRAMES),
        "looped": Meaning("", (NUMBER,)),
        "loop_start": Meaning("", (NUMBER,), BY_FRAMES),
        "loop_end": Meaning("", (NUMBER,), BY_FRAMES),
        "loop_length": Meaning("", (NUMBER,), BY_FRAMES),
    },
    "point": {
        **{what: Meaning("", (NUMBER,)) for what in ("at", "frame", "size", "frames", "low", "high", "peak")},
        "history": Meaning("", (BYTES,)),
    },
    "piece": {"of": Meaning("", (NUMBER,)), **{what: _PLACED[what] for what in ("at", "end", "stored")}},
    "folder": {
        "name": Meaning("", (TEXT,)),
        "parent": Meaning("", (NUMBER,)),
        "first": Meaning("", (NUMBER,)),
        "count": Meaning("", (NUMBER,)),
    },
    "listed": {"path": Meaning("", (TEXT,)), "size": Meaning("", (NUMBER,))},
    "row": {
        "id": Meaning("", (NUMBER, TEXT)),
        "title": Meaning("", (TEXT,)),
        "text": Meaning("", (TEXT,)),
        "bank": Meaning("", (TEXT,)),
        "language": Meaning("", (TEXT,)),
    },
}
MEANINGS: dict[str, Meaning] = {
    f"{owner}.{what}": meaning._replace(owner=owner)
    for owner, meanings in _BY_OWNER.items()
    for what, meaning in meanings.items()
}
"""Meanings of fields that repeat."""
ONCE: dict[str, Meaning] = {
    "entries.count": Meaning("", (NUMBER,)),
    "streams.count": Meaning("", (NUMBER,)),
    "payload.at": Meaning("", (NUMBER,)),
    "payload.end": Meaning("", (NUMBER,)),
    "payload.stored": Meaning("", (NUMBER,)),
    "file.size": Meaning("", (NUMBER,)),
    "bank.name": Meaning("", (TEXT,)),
    "bank.language": Meaning("", (TEXT,)),
    "bank.setup": Meaning("", (BYTES,)),
}
"""Meanings of fields that stand once."""
OF_REGION = ("at", "end", "stored", "size", "count", "next")
UNITS = tuple(dict.fromkeys((*BY_FRAMES, *BY_BYTES)))
"""Units by name; each is worked out from the codec, the rate or the block size of the stream."""


def meaning_of(name: str) -> Meaning:
    """A meaning by its name; of regions and companions any whole number."""
    return MEANINGS.get(name) or ONCE.get(name) or Meaning("", (NUMBER,))


class Strict(BaseModel):
    """A part of a layout: a name that the language does not know is an error."""

    model_config = ConfigDict(extra="forbid", frozen=True)
