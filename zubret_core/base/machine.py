"""Instructions that every processor has and the compiler of our kernels has no word for."""

from __future__ import annotations

import sys
from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

WIDE = 16
"""Bytes that `copy` copies."""


def instruction(typed: Any) -> Any:
    """What kernels may call, by a function that tells the compiler its types and how it is built; the first argument is the
    compiler's."""
    return intrinsic(typed)


@instruction
def lowest(typing, bits):
    """The number of the lowest bit of 64 that is set; one is."""

    def build(context, builder, signature, arguments):
        return builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 1))

    return types.uint64(types.uint64), build


@instruction
def copy(typing, to, place, source, at):
    """Copy WIDE bytes at source[at] to to[place], at once: both arrays must have as many there, which is not looked at."""

    def build(context, builder, signature, arguments):
        row = ir.VectorType(ir.IntType(8), WIDE).as_pointer()

        def pointer(array, n):
            held = context.make_array(signature.args[array])(context, builder, arguments[array])
            return builder.bitcast(builder.gep(held.data, [arguments[n]]), row)

        builder.store(builder.load(pointer(2, 3), align=1), pointer(0, 1), align=1)
        return context.get_dummy_value()

    return types.void(to, types.int64, source, types.int64), build


@instruction
def eight(typing, source, at):
    """The 8 bytes at source[at] as a number, the first one lowest; that there are as many is not looked at."""

    def build(context, builder, signature, arguments):
        held = context.make_array(signature.args[0])(context, builder, arguments[0])
        number = ir.IntType(64)
        place = builder.bitcast(builder.gep(held.data, [arguments[1]]), number.as_pointer())
        found = builder.load(place, align=1)
        return builder.bswap(found) if sys.byteorder == "big" else found

    return types.uint64(source, types.int64), build


@instruction
def turned(typing, number):
    """Eight bytes in the other order."""

    def build(context, builder, signature, arguments):
        return builder.bswap(arguments[0])

    return types.uint64(types.uint64), build
