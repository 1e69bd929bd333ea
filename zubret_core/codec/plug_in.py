"""A codec that an installed plug-in brings: it gets whole payloads and gives whole sounds, in a process of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, to_int16
from ..plugins import CODECS, ask
from ..plugins.asking import check
from ..source import Source, spooled
from .base import Usual, check_range, wrong_parameter

SPARE = 1 << 16
"""Bytes that a payload may have more than its samples in 16 bits."""


@dataclass(frozen=True)
class PlugInCodec(Usual):
    """plug_in: its name; settings: what the layout gives it, (name, value) in the order of their names."""

    plug_in: str = ""
    settings: tuple[tuple[str, Any], ...] = ()
    tells = True

    def __post_init__(self) -> None:
        if self.plug_in:
            try:
                check(CODECS, self.plug_in)
            except ZubretError as e:
                raise wrong_parameter("plug_in", self.plug_in, f"{e.what} {e.next}".rstrip(".")) from None

    @property
    def label(self) -> str:
        return f"{self.plug_in}, by a plug-in"

    @property
    def wants_setup(self) -> bool:  # type: ignore[override]
        return True

    def _has(self, method: str) -> bool:
        return bool(ask(CODECS, self.plug_in, dict(self.settings), "has", most=1, method=method))

    def _ask(self, do: str, data: bytes, format: Format, most: int) -> bytes:
        about = {
            "rate": format.rate, "channels": format.channels, "frames": format.frames,
            "block_size": format.block_size, "setup": format.setup.hex(),
        }  # fmt: skip
        return ask(CODECS, self.plug_in, dict(self.settings), do, data, [about], most)

    def obstacle(self, format: Format) -> str:
        return "" if self._has("encode") else f"{self.label} can be read but not written"

    def block_frames(self, format: Format) -> int:
        return 1

    def stored_size(self, format: Format) -> int | None:
        return None

    def told(self, payload: Source, format: Format) -> Format:
        """The format with its length, where nothing else says it and the plug-in counts frames."""
        if format.frames >= 0:
            return format
        if not self._has("frames"):
            raise ZubretError(
                f"Nothing says how long a stream of {self.label} is.",
                file=payload.name,
                field="frames",
                next="Tie a field to stream.frames, or use a plug-in that counts frames.",
            )
        return format.with_(frames=int(self._ask("frames", payload.read(0, payload.size), format, 20)))

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        check_range(payload, format, start, frames)
        key, width = (PlugInCodec, self, format.channels, format.frames), 2 * format.channels
        if key not in payload.memory:
            wanted = format.frames * width
            out = self._ask("decode", payload.read(0, payload.size), format, wanted)
            if len(out) != wanted:
                raise ZubretError(
                    f"The plug-in {self.plug_in} gave {len(out) // width:,} frames of the {format.frames:,} there are.",
                    file=payload.name,
                    next="The stream is damaged, or its length is not what the layout says.",
                )
            payload.memory[key] = spooled([out], len(out), payload.name)
        data = payload.memory[key].read(start * width, frames * width)
        return np.frombuffer(data, "<i2").reshape(-1, format.channels).astype(np.int16, copy=False)

    def encode(self, pcm: Signal, format: Format) -> bytes:
        data = to_int16(pcm[:]).astype("<i2").tobytes()
        return self._ask("encode", data, format.with_(frames=len(pcm)), len(data) + SPARE)

    def warm(self) -> None:
        pass
