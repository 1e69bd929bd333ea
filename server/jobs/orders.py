"""What jobs are to do, and what came of them, as dataclasses: a job's row holds both as JSON."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any, ClassVar, TypeVar

from pydantic import TypeAdapter

T = TypeVar("T")


@dataclass(frozen=True)
class Order:
    """What a job is to do: its kind, and its arguments in the fields of each kind's own class."""

    kind: ClassVar[str] = ""


@dataclass(frozen=True)
class Tidy(Order):
    """Remove what nobody refers to any more."""

    kind: ClassVar[str] = "tidy"


def read(shape: type[T], data: dict[str, Any]) -> T:
    """JSON as a dataclass; pydantic's ValidationError where it has another shape, as a row of an older version may have."""
    found: T = _adapter(shape).validate_python(data)  # type: ignore[arg-type]
    return found


@cache
def _adapter(shape: Any) -> TypeAdapter[Any]:
    return TypeAdapter(shape)
