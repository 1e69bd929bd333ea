"""Plain arithmetic on whole numbers, the only computing a layout can do.

Grammar: decimal or 0x numbers; names `field` (of the same record, earlier) and `region.field` (of a region that
stands once, earlier); parentheses; unary minus; `* // %`, `+ -`, `<< >>`, `&`, `|`; comparisons, which give 1 or
0; `not`, `and`, `or`; Python's precedence. No calls, no text, no powers. Every value stays within signed 64 bits,
so evaluation ends at once and needs no memory.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from ..base import ZubretError

_BINARY: dict[type, tuple[int, Callable[[int, int], int]]] = {
    ast.Add: (2, operator.add),
    ast.Sub: (3, operator.sub),
    ast.Mult: (4, operator.mul),
    ast.FloorDiv: (5, operator.floordiv),
    ast.Mod: (6, operator.mod),
    ast.LShift: (7, operator.lshift),
    ast.RShift: (8, operator.rshift),
    ast.BitAnd: (9, operator.and_),
    ast.BitOr: (10, operator.or_),
    ast.Eq: (11, operator.eq),
    ast.NotEq: (12, operator.ne),
    ast.Lt: (13, operator.lt),
    ast.LtE: (14, operator.le),
    ast.Gt: (15, operator.gt),
    ast.GtE: (16, operator.ge),
    ast.And: (17, lambda a, b: bool(a) and bool(b)),
    ast.Or: (18, lambda a, b: bool(a) or bool(b)),
}
CONSTANT, NAME, NEGATE, NOT = 0, 1, 19, 20
"""Operations of a compiled expression that are not binary."""
_OPERATIONS = dict(_BINARY.values())
_LIMIT = 1 << 63
LONGEST = 200
"""Characters of an expression at most."""


class NotAnExpression(ValueError):
    """The text is no expression; the message says why."""


@dataclass(frozen=True)
class Expression:
    """A compiled expression: steps in postfix order, (operation, number or name)."""

    text: str
    steps: tuple[tuple[int, int | str], ...]

    @property
    def names(self) -> tuple[str, ...]:
        """The names it uses, in order."""
        return tuple(str(value) for what, value in self.steps if what == NAME)


@lru_cache(maxsize=4096)
def compiled(text: int | str) -> Expression:
    """The expression that a text is; `NotAnExpression` where it is none."""
    if isinstance(text, int):
        return Expression(str(text), ((CONSTANT, text),))
    steps: list[tuple[int, int | str]] = []

    def visit(node: ast.AST) -> None:
        if isinstance(node, ast.BinOp) and type(node.op) in _BINARY:
            visit(node.left)
            visit(node.right)
            steps.append((_BINARY[type(node.op)][0], 0))
        elif isinstance(node, ast.BoolOp):
            visit(node.values[0])
            for value in node.values[1:]:
                visit(value)
                steps.append((_BINARY[type(node.op)][0], 0))
        elif isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _BINARY:
            visit(node.left)
            visit(node.comparators[0])
            steps.append((_BINARY[type(node.ops[0])][0], 0))
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.Not):
            visit(node.operand)
            steps.append((NEGATE if isinstance(node.op, ast.USub) else NOT, 0))
        elif isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            steps.append((NAME, f"{node.value.id}.{node.attr}"))
        elif isinstance(node, ast.Name):
            steps.append((NAME, node.id))
        elif isinstance(node, ast.Constant) and type(node.value) is int and abs(node.value) < _LIMIT:
            steps.append((CONSTANT, node.value))
        else:
            raise NotAnExpression(f'"{text}" is not plain arithmetic on whole numbers and fields such as head.count')

    try:
        if len(text) > LONGEST:
            raise SyntaxError
        visit(ast.parse(text.strip(), mode="eval").body)
    except NotAnExpression:
        raise
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise NotAnExpression(f'"{text[:60]}" can\'t be read as an expression') from None
    return Expression(text, tuple(steps))


def evaluate(text: int | str, names: Mapping[str, int], file: str = "", field: str = "") -> int:
    """The value of an expression; `names` gives the value of each name it uses."""

    def fail(what: str) -> ZubretError:
        return ZubretError(what, file=file, field=field, next="Correct the expression in the layout.")

    stack: list[int] = []
    for what, value in compiled(text).steps:
        if what == CONSTANT:
            result = int(value)
        elif what == NAME:
            if value not in names:
                raise fail(f'"{value}" has no value here: its region or field is absent from this file.')
            result = int(names[str(value)])
        elif what in (NEGATE, NOT):
            result = -stack.pop() if what == NEGATE else int(not stack.pop())
        else:
            right, left = stack.pop(), stack.pop()
            if what in (7, 8) and not 0 <= right < 64:
                raise fail(f'"{text}" shifts by {right} bits.')
            if what in (5, 6) and right == 0:
                raise fail(f'"{text}" divides by zero.')
            result = int(_OPERATIONS[what](left, right))
        if not -_LIMIT <= result < _LIMIT:
            raise fail(f'"{text}" gives a number beyond 64 bits.')
        stack.append(result)
    return stack[0]
