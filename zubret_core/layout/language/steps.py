"""The steps of a transform as pydantic models."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, model_validator

from ...source.packing import METHODS
from .terms import HexBytes, IntType, Name, Order, Strict


def _named_step(value: object) -> object:
    """A step without settings may be just its name."""
    return {"by": value} if isinstance(value, str) else value


class PackStep(Strict):
    """A compression."""

    by: Literal[METHODS]  # type: ignore[valid-type]
    level: int | None = Field(None, ge=-20, le=22)


class AesStep(Strict):
    """AES with a key from the key ring."""

    by: Literal["aes"]
    mode: Literal["ecb", "cbc", "ctr"] = "ecb"
    key: Name
    iv: HexBytes | str = Field(b"", description="16 bytes in hexadecimal pairs, or a field of 16 bytes; zeros if empty")


class RowStep(Strict):
    """A repeating row of bytes, XORed or added."""

    by: Literal["xor", "add"]
    bytes: HexBytes = b""
    key: Name | None = None

    @model_validator(mode="after")
    def _one(self):
        if bool(self.bytes) == bool(self.key):
            raise ValueError(f"a step by {self.by} needs either bytes or a key")
        return self


class SwapStep(Strict):
    """Byte order turned round."""

    by: Literal["swap"]
    width: Literal[2, 4, 8]


class ChunkStep(Strict):
    """Pieces that are packed one by one."""

    by: Literal["chunks"]
    size: int = Field(ge=16, le=1 << 26, description="unpacked bytes of a chunk")
    sizes: IntType = "u32"
    byte_order: Order = "little"
    place: Literal["table", "inline"] = "table"
    plain: Literal["never", "equal", "top"] = "never"
    align: int = Field(1, ge=1, le=1 << 16)
    packed: list[StepModel] = Field(min_length=1, max_length=4)


StepModel = Annotated[
    PackStep | AesStep | RowStep | SwapStep | ChunkStep,
    Field(discriminator="by"),
    BeforeValidator(_named_step, json_schema_input_type=Any),
]
Steps = Annotated[list[StepModel], Field(max_length=8)]
