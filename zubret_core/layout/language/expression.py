"""Plain arithmetic on whole numbers, the only computing a layout can do.

Grammar: decimal or 0x numbers; names `field` (of the same record), `region.field` (of a region that stands once) and
`entry.at`, `stream.rate` and the like (other meanings of the same item); parentheses; unary minus; `* // %`, `+ -`,
`<< >>`, `&`, `^`, `|`; comparisons, which give 1 or 0; `not`, `and`, `or`; Python's precedence. No calls, no text, no
powers. Every value stays within signed 64 bits, so evaluation ends at once and needs no memory.

There is one evaluator, `run`, compiled. A single value, a column of records and the condition of one record inside a
walk all go through it.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base import ZubretError

CONSTANT, SLOT, PART, NEGATE, NOT, XOR = 0, 1, 21, 19, 20, 22
"""Operations that are not binary, but for XOR. SLOT takes a number of the row (refused below 0 where `b` says that it is unsigned);
PART takes some bits of it: `b` holds the lowest bit, from bit 8 on how many, and from bit 16 on whether they are signed."""
ADD, SUB, MUL, DIV, MOD, SHL, SHR, AND, OR, EQ, NE, LT, LE, GT, GE, BOTH, EITHER = range(2, 19)
_BINARY: dict[type, int] = {
    ast.Add: ADD, ast.Sub: SUB, ast.Mult: MUL, ast.FloorDiv: DIV, ast.Mod: MOD, ast.LShift: SHL, ast.RShift: SHR,
    ast.BitAnd: AND, ast.BitOr: OR, ast.BitXor: XOR, ast.Eq: EQ, ast.NotEq: NE, ast.Lt: LT, ast.LtE: LE, ast.Gt: GT,
    ast.GtE: GE, ast.And: BOTH, ast.Or: EITHER,
}  # fmt: skip
FINE, BY_ZERO, FAR_SHIFT, BEYOND = range(4)
"""How an evaluation ends."""
_FAULTS = {BY_ZERO: "divides by zero", FAR_SHIFT: "shifts by less than 0 or more than 63 bits",
           BEYOND: "gives a number beyond 64 bits"}  # fmt: skip
LONGEST = 200
"""Characters of an expression at most."""
DEPTH = 256
"""Values that wait at most while an expression of that length is worked out."""
_LIMIT = 1 << 63
_LOWEST = np.int64(-(1 << 63))


class NotAnExpression(ValueError):
    """The text is no expression; the message says why."""


@dataclass(frozen=True)
class Expression:
    """A compiled expression: steps in postfix order as rows of (operation, a, b); a SLOT's `a` is the place in `names`."""

    text: str
    names: tuple[str, ...]
    code: NDArray[np.int64] = field(repr=False, compare=False)
    constant: int | None


@lru_cache(maxsize=4096)
def compiled(text: int | str) -> Expression:
    """The expression that a text is; `NotAnExpression` where it is none."""
    if isinstance(text, int):
        if abs(text) >= _LIMIT:
            raise NotAnExpression(f"{text:,} is beyond 64 bits")
        return Expression(str(text), (), np.array([[CONSTANT, text, 0]], np.int64), text)
    steps: list[tuple[int, int, int]] = []
    names: dict[str, int] = {}

    def visit(node: ast.AST) -> None:
        if isinstance(node, ast.BinOp) and type(node.op) in _BINARY:
            visit(node.left)
            visit(node.right)
            steps.append((_BINARY[type(node.op)], 0, 0))
        elif isinstance(node, ast.BoolOp):
            visit(node.values[0])
            for value in node.values[1:]:
                visit(value)
                steps.append((_BINARY[type(node.op)], 0, 0))
        elif isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _BINARY:
            visit(node.left)
            visit(node.comparators[0])
            steps.append((_BINARY[type(node.ops[0])], 0, 0))
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.Not):
            visit(node.operand)
            steps.append((NEGATE if isinstance(node.op, ast.USub) else NOT, 0, 0))
        elif isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            steps.append((SLOT, names.setdefault(f"{node.value.id}.{node.attr}", len(names)), 0))
        elif isinstance(node, ast.Name):
            steps.append((SLOT, names.setdefault(node.id, len(names)), 0))
        elif isinstance(node, ast.Constant) and type(node.value) is int and abs(node.value) < _LIMIT:
            steps.append((CONSTANT, node.value, 0))
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
    constant = steps[0][1] if len(steps) == 1 and steps[0][0] == CONSTANT else None
    return Expression(text, tuple(names), np.array(steps, np.int64), constant)


@njit(cache=True)
def run(code, start, end, row, stack):
    """(value, how it ended) of code[start:end] on the numbers of one record; `stack` has DEPTH places."""
    top = 0
    for n in range(start, end):
        what = code[n, 0]
        if what == 0:
            stack[top] = code[n, 1]
            top += 1
        elif what == 1:
            if code[n, 2] and row[code[n, 1]] < 0:  # an unsigned number of 64 bits, beyond what is calculated with
                return np.int64(0), 3
            stack[top] = row[code[n, 1]]
            top += 1
        elif what == 21:
            shift, bits, signed = code[n, 2] & 255, code[n, 2] >> 8 & 255, code[n, 2] >> 16
            value = row[code[n, 1]] << (64 - bits - shift)  # what stands above the part falls off
            stack[top] = value >> (64 - bits)
            if not signed and bits < 64:
                stack[top] &= (np.int64(1) << bits) - 1
            top += 1
        elif what == 19:
            if stack[top - 1] == _LOWEST:
                return np.int64(0), 3
            stack[top - 1] = -stack[top - 1]
        elif what == 20:
            stack[top - 1] = np.int64(stack[top - 1] == 0)
        else:
            a, b = stack[top - 2], stack[top - 1]
            top -= 1
            if (what == 5 or what == 6) and b == 0:
                return np.int64(0), 1
            if (what == 7 or what == 8) and not 0 <= b < 64:
                return np.int64(0), 2
            beyond = False  # 64 bits: sums and products wrap around, which shows
            if what == 2:
                value = a + b
                beyond = ((a ^ value) & (b ^ value)) < 0
            elif what == 3:
                value = a - b
                beyond = ((a ^ b) & (a ^ value)) < 0
            elif what == 4:
                value = a * b
                size = float(a) * float(b)  # near the edge, where it rounds, the sign of the wrapped product decides
                beyond = abs(size) > 9.3e18 or (abs(size) > 9.2e18 and (size > 0) != (value > 0))
            elif what == 5:
                beyond = a == _LOWEST and b == -1
                value = a if beyond else a // b
            elif what == 6:
                value = a % b if b != -1 else np.int64(0)
            elif what == 7:
                value = a << b
                beyond = value >> b != a
            elif what == 8:
                value = a >> b
            elif what == 9:
                value = a & b
            elif what == 10:
                value = a | b
            elif what == 22:
                value = a ^ b
            elif what == 11:
                value = np.int64(a == b)
            elif what == 12:
                value = np.int64(a != b)
            elif what == 13:
                value = np.int64(a < b)
            elif what == 14:
                value = np.int64(a <= b)
            elif what == 15:
                value = np.int64(a > b)
            elif what == 16:
                value = np.int64(a >= b)
            elif what == 17:
                value = np.int64(a != 0 and b != 0)
            else:
                value = np.int64(a != 0 or b != 0)
            if beyond:
                return np.int64(0), 3
            stack[top - 1] = value
    return stack[0], 0


@njit(cache=True)
def _run_rows(code, rows, out):
    """Every row's value into out; (row, how it ended) of the first that has none."""
    stack = np.zeros(256, np.int64)
    for n in range(len(rows)):
        value, fault = run(code, 0, len(code), rows[n], stack)
        if fault:
            return n, fault
        out[n] = value
    return -1, 0


def _fail(what: str, file: str, field: str) -> ZubretError:
    return ZubretError(what, file=file, field=field, next="Correct the expression in the layout.")


def _absent(name: str, file: str, field: str) -> ZubretError:
    return _fail(f'"{name}" has no value here: its region or field is absent from this file.', file, field)


def evaluate(text: int | str, names: Mapping[str, int], file: str = "", field: str = "") -> int:
    """The value of an expression; `names` gives the value of each name it uses."""
    if isinstance(text, int):
        return text
    expression = compiled(text)
    if expression.constant is not None:
        return expression.constant
    for name in expression.names:
        if name not in names:
            raise _absent(name, file, field)
    if len(expression.code) == 1:
        return int(names[expression.names[0]])
    values = [names[name] for name in expression.names]
    if any(abs(v) >= _LIMIT for v in values):
        raise _fail(f'"{text}" {_FAULTS[BEYOND]}.', file, field)
    code, row = expression.code, np.array(values, np.int64)
    value, fault = run(code, 0, len(code), row, np.zeros(DEPTH, np.int64))
    if fault:
        raise _fail(f'"{text}" {_FAULTS[fault]}.', file, field)
    return int(value)


def evaluate_rows(
    text: int | str, names: Mapping[str, int | NDArray], count: int, file: str = "", field: str = ""
) -> NDArray[np.int64]:
    """The value of an expression for each of `count` records: names may have one number, or one a record."""
    expression = compiled(text)
    rows = np.zeros((count, max(1, len(expression.names))), np.int64)
    for n, name in enumerate(expression.names):
        if name not in names:
            raise _absent(name, file, field)
        value = names[name]
        if count and int(np.max(value)) >= _LIMIT:
            raise _fail(f'"{text}" {_FAULTS[BEYOND]}.', file, field)
        rows[:, n] = value
    out = np.zeros(count, np.int64)
    row, fault = _run_rows(expression.code, rows, out)
    if fault:
        raise _fail(f'"{text}" {_FAULTS[fault]}.', file, f"{field} of record {row}" if field else "")
    return out


def warm() -> None:
    """Compile."""
    evaluate("a + 1", {"a": 1})
    evaluate_rows("a + 1", {"a": 1}, 1)
