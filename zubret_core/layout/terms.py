"""Words that all parts of a layout's model share: names, numbers, bytes, and what a field may mean."""

from __future__ import annotations

import keyword
import re
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from .expression import compiled

NAME = r"^[a-z][a-z0-9_]*$"
INTEGER = re.compile(r"[ui](8|16|24|32|48|64)$")


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
Number = Annotated[int | str, AfterValidator(_expression)]
"""A whole number, or an expression on earlier fields."""
Order = Literal["little", "big"]
IntType = Literal["u8", "u16", "u24", "u32", "u48", "u64"]


def _no_keyword(name: str) -> str:
    if keyword.iskeyword(name):
        raise ValueError(f'"{name}" can\'t be used as a name: it would mean something else in an expression')
    return name


Name = Annotated[str, Field(pattern=NAME), AfterValidator(_no_keyword)]

ENTRY = ("path", "name", "folder", "id", "at", "end", "stored", "size", "method", "volume", "head")
STREAM = (
    "id", "name", "at", "end", "stored", "size", "codec", "rate", "channels", "block_size", "frames", "looped", "loop_start",
    "loop_end", "volume", "head",
)  # fmt: skip
LISTED = ("path", "size")
FOLDER = ("name", "parent", "first", "count")
MEANINGS = {
    **{f"entry.{m}": "entry" for m in ENTRY},
    **{f"stream.{m}": "stream" for m in STREAM},
    **{f"folder.{m}": "folder" for m in FOLDER},
    **{f"listed.{m}": "listed" for m in LISTED},
}
"""Meanings of fields that repeat, and what they belong to."""
ONCE = ("entries.count", "streams.count", "payload.at", "file.size", "bank.name", "bank.language", "bank.setup")
OF_REGION = ("at", "end", "stored", "size", "count")


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
