"""From the steps of a layout to transforms that run: keys and initial vectors are put in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from ...base import ZubretError
from ...source.steps import AES_BLOCK, Add, Aes, Chain, Chunked, Packed, Step, Swap, Xor
from ..language.schema import Layout
from ..language.steps import AesStep, ChunkStep, PackStep, RowStep, StepModel, SwapStep

Keys = Mapping[str, bytes]
"""The bytes of keys by the names that a layout gives them."""


class Locked(ZubretError):
    """Something can't be read without a key; `key` is its name in the layout."""

    key = ""


def chain_of(
    steps: Sequence[StepModel], layout: Layout, keys: Keys, file: str, field: Callable[[str], bytes] | None = None
) -> Chain:
    """The transforms of some steps. `field` gives the bytes of a field by its name, for initial vectors."""
    return Chain([_step(s, layout, keys, file, field) for s in steps])


def _step(step: StepModel, layout: Layout, keys: Keys, file: str, field: Callable[[str], bytes] | None) -> Step:
    if isinstance(step, PackStep):
        return Packed(step.by, step.level)
    if isinstance(step, SwapStep):
        return Swap(step.width)
    if isinstance(step, ChunkStep):
        inside = chain_of(step.packed, layout, keys, file, field)
        width = int(step.sizes[1:]) // 8
        return Chunked(step.size, inside, width, step.byte_order, step.place, step.plain, step.align)
    if isinstance(step, AesStep):
        return Aes(_key(step.key, layout, keys, file), step.mode, _vector(step, file, field))
    assert isinstance(step, RowStep)
    row = step.bytes or _key(step.key or "", layout, keys, file)
    return Xor(row) if step.by == "xor" else Add(row)


def _vector(step: AesStep, file: str, field: Callable[[str], bytes] | None) -> bytes:
    iv = step.iv
    if isinstance(iv, str):
        iv = field(iv) if field else b""
    iv = iv or bytes(AES_BLOCK)
    if len(iv) != AES_BLOCK:
        raise ZubretError(
            f"An initial vector has {AES_BLOCK} bytes, not {len(iv)}.",
            file=file,
            field=str(step.iv),
            next="Correct the layout's `iv`.",
        )
    return iv


def _key(name: str, layout: Layout, keys: Keys, file: str) -> bytes:
    wanted = layout.keys[name].length
    sizes = " or ".join(f"{n}" for n in wanted)
    if name not in keys:
        error = Locked(
            f"This is locked: it needs a key of {sizes} bytes.",
            file=file,
            field=f"key {name}",
            next="Add the key to the game's key ring, then try keys.",
        )
        error.key = name
        raise error
    if len(keys[name]) not in wanted:
        error = Locked(
            f"The key has {len(keys[name])} bytes; {sizes} are needed.",
            file=file,
            field=f"key {name}",
            next="Copy the key again: part of it may be missing.",
        )
        error.key = name
        raise error
    return keys[name]
