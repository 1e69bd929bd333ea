"""Field types: each is one object that knows how its fields are found, read, written and shown."""

from .base import Cells, FieldType, Step
from .numbers import Bcd, Digits, Float, Integer, Result, Varint, leb128, leb128_bytes
from .texts import Align, Bytes, Text, decoded

TYPES: dict[str, FieldType] = {
    **{f"{sign}{bits}": Integer(bits // 8, sign == "i") for sign in "ui" for bits in range(8, 72, 8)},
    "f32": Float(4),
    "f64": Float(8),
    "f80": Float(10),
    "varint": Varint(),
    "digits": Digits(),
    "bcd": Bcd(),
    "result": Result(),
    "text": Text(),
    "bytes": Bytes(),
    "align": Align(),
}
"""Every type by the name that layouts use."""

__all__ = ["TYPES", "Cells", "FieldType", "Step", "decoded", "leb128", "leb128_bytes"]
