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
def mirrored(typing, bits):
    """64 bits in the other order."""

    def build(context, builder, signature, arguments):
        return builder.bitreverse(arguments[0])

    return types.uint64(types.uint64), build


@instruction
def copy(typing, to, source):
    """Copy WIDE bytes from one address to another, all at once. Addresses are those of an array's `ctypes.data` and what is behind
    them; nobody looks whether there are as many bytes."""

    def build(context, builder, signature, arguments):
        row = ir.VectorType(ir.IntType(8), WIDE).as_pointer()
        to, source = (builder.inttoptr(address, row) for address in arguments)
        builder.store(builder.load(source, align=1), to, align=1)
        return context.get_dummy_value()

    return types.void(types.int64, types.int64), build


@instruction
def eight(typing, address):
    """The 8 bytes at an address as a number, the first one lowest."""

    def build(context, builder, signature, arguments):
        found = builder.load(builder.inttoptr(arguments[0], ir.IntType(64).as_pointer()), align=1)
        return builder.bswap(found) if sys.byteorder == "big" else found

    return types.uint64(types.int64), build


@instruction
def put_eight(typing, address, number):
    """Write a number as the 8 bytes at an address, the lowest first."""

    def build(context, builder, signature, arguments):
        address, number = arguments
        number = builder.bswap(number) if sys.byteorder == "big" else number
        builder.store(number, builder.inttoptr(address, ir.IntType(64).as_pointer()), align=1)
        return context.get_dummy_value()

    return types.void(types.int64, types.uint64), build


@instruction
def turned(typing, number):
    """Eight bytes in the other order."""

    def build(context, builder, signature, arguments):
        return builder.bswap(arguments[0])

    return types.uint64(types.uint64), build
