"""From the steps of a layout to transforms that run: keys, numbers, fields and dictionaries are put in."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from typing import Protocol

from ...base import ZubretError
from ...source.coders.huffman import Huffman
from ...source.coders.lzss import Lzss
from ...source.coders.plug_in import PlugInCoder
from ...source.coders.runs import Runs
from ...source.locks import AES_BLOCK, Aes, Beginning, Generator, Row, Swap
from ...source.step import Step
from ...source.steps import Chain, Chunked, Coded, Packed, Sized
from ..language.schema import Layout
from ..language.steps import (
    CHUNKS,
    AesStep,
    ChunkStep,
    GeneratorStep,
    HuffmanStep,
    LzssStep,
    PackStep,
    PathSum,
    PlugInStep,
    RowStep,
    RunsStep,
    SizedStep,
    StepModel,
    SwapStep,
)

Keys = Mapping[str, bytes]
"""The bytes of keys by the names that a layout gives them."""


class Locked(ZubretError):
    """Something can't be read without a key; `key` is its name in the layout."""

    key = ""


class Words(Protocol):
    """What steps may name besides keys; of an item's payload also what its own record says."""

    def content(self, name: str) -> bytes:
        """The bytes of a field."""

    def number(self, text: int | str) -> int:
        """The value of an expression."""

    def path(self) -> str:
        """The path of the item."""

    def dictionary(self, name: str) -> bytes:
        """The bytes of a file beside this one, of a region, of a field, or of an entry."""


class NoWords:
    """The words of what is packed before anything has been read."""

    def __init__(self, file: str):
        self._file = file

    def _nothing(self, name: str) -> ZubretError:
        return ZubretError(
            f'"{name}" is not known yet where this step is done.',
            file=self._file,
            next="Correct the layout: a whole file's steps name keys and numbers only.",
        )

    def content(self, name: str) -> bytes:
        """See `Words`."""
        raise self._nothing(name)

    def number(self, text: int | str) -> int:
        """See `Words`."""
        if isinstance(text, int):
            return text
        raise self._nothing(text)

    def path(self) -> str:
        """See `Words`."""
        raise self._nothing("the path")

    def dictionary(self, name: str) -> bytes:
        """See `Words`."""
        raise self._nothing(name)


def chain_of(steps: Sequence[StepModel], layout: Layout, keys: Keys, file: str, words: Words | None = None) -> Chain:
    """The transforms of some steps."""
    made = _Maker(layout, keys, file, words or NoWords(file))
    return Chain([made.step(s) for s in steps])


class _Maker:
    def __init__(self, layout: Layout, keys: Keys, file: str, words: Words):
        self._layout, self._keys, self._file, self._words = layout, keys, file, words

    def step(self, model: StepModel) -> Step:
        """The transform of one step."""
        if isinstance(model, PackStep):
            known = self._words.dictionary(model.dictionary) if model.dictionary else b""
            return Packed(model.by, model.level, known)
        if isinstance(model, SwapStep):
            return Swap(model.width)
        if isinstance(model, ChunkStep):
            inside = Chain([self.step(s) for s in model.packed])
            width = int(model.sizes[1:]) // 8
            size = self._words.number(model.size)
            if size not in CHUNKS:
                raise ZubretError(
                    f"A chunk can't have {size:,} unpacked bytes.",
                    file=self._file,
                    field=str(model.size),
                    next="The file is damaged, or the layout's chunks take their size from another field.",
                )
            how = model.byte_order, model.place, model.plain, model.align, model.says, model.origin == "table"
            return Chunked(size, inside, width, *how)
        if isinstance(model, SizedStep):
            return Sized(Chain([self.step(s) for s in model.packed]), int(model.width[1:]) // 8, model.byte_order)
        if isinstance(model, LzssStep | RunsStep | HuffmanStep):
            return _coded(model)
        if isinstance(model, PlugInStep):
            settings = tuple(sorted(model.settings.items()))
            return Coded(PlugInCoder(model.name, settings), f"the plug-in {model.name}")
        lock: Step
        if isinstance(model, AesStep):
            lock = Aes(self._key(model.key), model.mode, self._vector(model))
        elif isinstance(model, GeneratorStep):
            width, big = int(model.gives[1:]) // 8, model.byte_order == "big"
            lock = Generator(
                self._words.number(model.seed), model.multiply, model.plus, model.bits, model.shift, model.mask, width,
                big, model.begins == "seed", model.does,
            )  # fmt: skip
        else:
            assert isinstance(model, RowStep)
            lock = Row(self._row(model), model.by)
        return lock if model.first is None else Beginning(lock, self._words.number(model.first))

    def _row(self, model: RowStep) -> bytes:
        if model.key is not None:
            return self._key(model.key)
        if model.number is not None:
            width = int(model.width[1:]) // 8
            number = self._words.number(model.number) & (1 << 8 * width) - 1
            return number.to_bytes(width, model.byte_order)
        row = model.bytes or self._words.content(model.field or "")
        if not row:
            raise ZubretError(
                f"The row of bytes in {model.field} is empty.",
                file=self._file,
                field=model.field,
                next="The file is damaged, or the layout names the wrong field.",
            )
        return row

    def _vector(self, model: AesStep) -> bytes:
        iv = model.iv
        if isinstance(iv, PathSum):
            path = self._words.path().replace("/", iv.slash)
            path = path.lower() if iv.case == "lower" else path.upper() if iv.case == "upper" else path
            return hashlib.new(iv.sum, path.encode("utf-8", "surrogateescape")).digest()[:AES_BLOCK]
        if isinstance(iv, str):
            iv = self._words.content(iv)
        iv = iv or bytes(AES_BLOCK)
        if len(iv) != AES_BLOCK:
            raise ZubretError(
                f"An initial vector has {AES_BLOCK} bytes, not {len(iv)}.",
                file=self._file,
                field=str(model.iv),
                next="Correct the layout's `iv`.",
            )
        return iv

    def _key(self, name: str) -> bytes:
        wanted = self._layout.keys[name].length
        sizes = " or ".join(f"{n}" for n in wanted)
        given = self._keys.get(name)
        if given is not None and len(given) in wanted:
            return given
        what, next = (
            f"The key has {len(given or b'')} bytes; {sizes} are needed.",
            "Copy the key again: part of it may be missing.",
        )
        if given is None:
            what, next = (
                f"This is locked: it needs a key of {sizes} bytes.",
                "Add the key to the game's key ring, then try keys.",
            )
        error = Locked(what, file=self._file, field=f"key {name}", next=next)
        error.key = name
        raise error


def _coded(model: LzssStep | RunsStep | HuffmanStep) -> Coded:
    if isinstance(model, LzssStep):
        flags = 0 if model.flags == "bits" else int(model.flags[1:]) // 8
        code, big, high = tuple(p.piece for p in model.code), model.byte_order == "big", model.bit_order == "high"
        coder = Lzss(
            model.window, model.shortest, code, big, flags, high, model.literal, model.start, model.nearest,
            model.initial, model.end,
        )  # fmt: skip
        return Coded(coder, "lzss")
    if isinstance(model, RunsStep):
        first = model.order == "value-count"
        return Coded(Runs(model.form, model.run, model.plain, model.top == "runs", model.mark[0], first), "runs")
    return Coded(Huffman(model.table, model.longest, model.bit_order == "high"), "huffman")
