"""What kind of audio a stream is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from .errors import ZubretError


@dataclass(frozen=True)
class Loop:
    """A loop in frames, half-open: [start, end)."""

    start: int
    end: int

    @property
    def length(self) -> int:
        """Frames in one pass."""
        return self.end - self.start


@dataclass(frozen=True)
class Format:
    """codec name, sample rate in Hz, channels, length in frames, loop, codec block in bytes.

    `block_size` counts all channels together and is 0 for codecs without blocks. `variant`
    holds what only the codec understands (for an audio file its container and subtype). `parameters` are those that
    a layout gives the codec, (name, value) in the order of their names. `setup` is what the codec must know beforehand
    and the bank keeps apart from the payload: header packets. `more` are loops besides the first, where the stream has room
    for them: a WAV file does.
    """

    codec: str
    rate: int
    channels: int
    frames: int
    loop: Loop | None = None
    block_size: int = 0
    variant: str = ""
    parameters: tuple[tuple[str, Any], ...] = ()
    setup: bytes = b""
    more: tuple[Loop, ...] = ()

    @property
    def possible(self) -> bool:
        """Whether audio can have this format."""
        loop = self.loop
        return (
            1 <= self.rate <= 4_000_000
            and 1 <= self.channels <= 64
            and self.frames >= 0
            and (loop is None or 0 <= loop.start < loop.end <= self.frames)
        )

    def checked(self, file: str | None = None) -> Format:
        """Itself, or a ZubretError if no audio can have this format."""

        def wrong(field: str, what: str) -> ZubretError:
            return ZubretError(
                what,
                file=file,
                field=field,
                next="The bank is damaged or described by the wrong layout: check the file against another copy.",
            )

        if not 1 <= self.rate <= 4_000_000:
            raise wrong("rate", f"A sample rate of {self.rate:,} Hz is not possible.")
        if not 1 <= self.channels <= 64:
            raise wrong("channels", f"{self.channels} channels are not possible.")
        if self.frames < 0:
            raise wrong("frames", f"A length of {self.frames:,} frames is not possible.")
        if self.loop and not 0 <= self.loop.start < self.loop.end <= self.frames:
            raise wrong(
                "loop",
                f"The loop {self.loop.start:,} to {self.loop.end:,} lies outside the stream's {self.frames:,} frames.",
            )
        return self

    def with_(self, **changes: Any) -> Format:
        """A copy with some fields changed."""
        return replace(self, **changes)

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form; `from_dict` reads it back."""
        return {
            "codec": self.codec,
            "rate": self.rate,
            "channels": self.channels,
            "frames": self.frames,
            "loop": [self.loop.start, self.loop.end] if self.loop else None,
            "block_size": self.block_size,
            "variant": self.variant,
            "parameters": dict(self.parameters),
            "setup": self.setup.hex(),
            "more": [[loop.start, loop.end] for loop in self.more],
        }

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Format:
        """The inverse of `as_dict`."""
        loop = data.get("loop")
        parameters = frozen(data.get("parameters", {}))
        setup = bytes.fromhex(data.get("setup", ""))
        more = tuple(Loop(*some) for some in data.get("more", ()))
        loops = {"loop": Loop(*loop) if loop else None, "more": more}
        return cls(**{**data, **loops, "parameters": parameters, "setup": setup})


def frozen(parameters: Mapping[str, Any]) -> tuple[tuple[str, Any], ...]:
    """Parameters of a codec as a format holds them: lists become tuples, and settings pairs, so that formats can be compared."""

    def whole(value: Any) -> Any:
        if isinstance(value, dict):
            return tuple((name, whole(v)) for name, v in sorted(value.items()))
        return tuple(whole(v) for v in value) if isinstance(value, list | tuple) else value

    return tuple((name, whole(value)) for name, value in sorted(parameters.items()))
