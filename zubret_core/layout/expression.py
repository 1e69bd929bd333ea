"""Plain arithmetic on whole numbers, the only computing a layout can do.

Grammar: decimal or 0x numbers, names `region.field`, parentheses, unary minus, and
`* // %`, `+ -`, `<< >>`, `&`, `|` with Python's precedence. No calls, no text, no powers.
Every value stays within signed 64 bits, so evaluation ends at once and needs no memory.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping

from ..base import ZubretError

_OPERATORS: dict[type, Callable[[int, int], int]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.FloorDiv: operator.floordiv,
    ast.Mod: operator.mod,
    ast.LShift: operator.lshift,
    ast.RShift: operator.rshift,
    ast.BitAnd: operator.and_,
    ast.BitOr: operator.or_,
}
_LIMIT = 1 << 63


def names_in(text: str, error: Callable[[str], Exception]) -> list[str]:
    """The names an expression uses; `error(what)` is raised where it is not one."""
    names: list[str] = []

    def visit(node: ast.AST) -> None:
        if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
            visit(node.left)
            visit(node.right)
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
            visit(node.operand)
        elif isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            names.append(f"{node.value.id}.{node.attr}")
        elif not (isinstance(node, ast.Constant) and type(node.value) is int):
            raise error(f'"{text}" is not plain arithmetic on whole numbers and fields such as head.count.')

    try:
        if len(text) > 200:
            raise SyntaxError
        visit(ast.parse(text, mode="eval").body)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise error(f'"{text[:60]}" can\'t be read as an expression.') from None
    return names


def evaluate(text: int | str, names: Mapping[str, int], file: str = "", field: str = "") -> int:
    """The value of a checked expression; `names` gives the value of each `region.field`."""
    if isinstance(text, int):
        return text

    def fail(what: str) -> ZubretError:
        return ZubretError(what, file=file, field=field, next="Correct the expression in the layout.")

    def value(node: ast.AST) -> int:
        if isinstance(node, ast.Constant):
            result: int = node.value  # type: ignore[assignment]
        elif isinstance(node, ast.Attribute):
            result = names[f"{node.value.id}.{node.attr}"]  # type: ignore[attr-defined]
        elif isinstance(node, ast.UnaryOp):
            result = -value(node.operand)
        else:
            assert isinstance(node, ast.BinOp)
            left, right = value(node.left), value(node.right)
            if isinstance(node.op, ast.LShift | ast.RShift) and not 0 <= right < 64:
                raise fail(f'"{text}" shifts by {right} bits.')
            if isinstance(node.op, ast.FloorDiv | ast.Mod) and right == 0:
                raise fail(f'"{text}" divides by zero.')
            result = _OPERATORS[type(node.op)](left, right)
        if not -_LIMIT <= result < _LIMIT:
            raise fail(f'"{text}" gives a number beyond 64 bits.')
        return result

    return value(ast.parse(text, mode="eval").body)
