"""Codecs with parameters, as a layout gives them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ...base import ZubretError
from ...base.format import frozen
from ...codec import CODECS, codec_named


class CodecModel(BaseModel):
    """A codec, and what of it is not as usual."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    codec: str = Field(description="pcm, ima-adpcm and so on", examples=sorted(CODECS))
    sample: str | None = Field(None, description="pcm: u8, s8, s16, s24, s32, f32, f64, a-law or mu-law")
    order: Literal["little", "big"] | None = Field(
        None, description="pcm: byte order of a sample; vorbis, opus: of a packet's length; filter-adpcm: of steps"
    )
    interleave: int | Literal["block"] | None = Field(
        None,
        description="pcm, filter-adpcm: bytes of each channel in turn; 0 for one sample or frame, -1 for one whole channel after "
        "another, block where stream.block_size is a turn of all channels",
    )
    last_turn: Literal["short", "filled"] | None = Field(
        None, description="with interleave: whether the last turn is as short as the stream's end, or filled up"
    )
    last_align: int | None = Field(
        None, description="with interleave: a channel's bytes in a short last turn are filled up to a multiple of this"
    )
    header: Literal["wave", "dvi4", "none"] | None = Field(None, description="step-adpcm: what begins a block")
    nibbles: Literal["low", "high"] | None = Field(
        None, description="ADPCM, delta-pcm, packed-pcm: which bits of a byte come first"
    )
    group: int | None = Field(None, description="step-adpcm: bytes of each channel in turn; 0 for one nibble of each")
    rule: Literal["shifts", "product"] | None = Field(
        None, description="step-adpcm, table-adpcm: how a difference is rounded"
    )
    frame: int | None = Field(None, description="filter-adpcm: bytes of a frame of one channel")
    filters: list[tuple[int, int]] | None = Field(None, description="filter-adpcm: pairs of coefficients in 1/unit")
    word: Literal["filter-shift", "shift-filter", "step", "step-filter"] | None = Field(
        None, description="filter-adpcm: what stands in the high and the low half of a frame's first byte, or a step"
    )
    unit: int | None = Field(None, description="filter-adpcm: what the coefficients are parts of, 64 by default")
    grows: bool | None = Field(None, description="filter-adpcm: a step is 1 << shift; else 4096 >> shift")
    plus: int | None = Field(None, description="filter-adpcm: what is added to a stored step")
    ends: bool | None = Field(None, description="filter-adpcm: a step with its highest bit set ends the stream")
    record: list[str] | None = Field(
        None, description="filter-adpcm: what stream.setup holds for each channel: filters, head, history and so on"
    )
    pairs: int | None = Field(None, description="filter-adpcm: pairs of coefficients in a record")
    flags: list[int] | None = Field(
        None,
        description="filter-adpcm: the second byte as it comes, at the loop's start, at its end, at the last frame",
    )
    rounding: Literal["truncate", "nearest", "floor"] | None = Field(
        None, description="filter-adpcm: how a prediction becomes a whole number"
    )
    framing: Literal["counted", "fixed", "table"] | None = Field(
        None, description="vorbis, opus, library: a length before each packet, all of one size, or a table of lengths"
    )
    width: Literal[1, 2, 4] | None = Field(None, description="vorbis, opus, library: bytes of a packet's length")
    between: int | None = Field(
        None, description="vorbis, opus, library: bytes between a packet's length and the packet, written as zeros"
    )
    added: int | None = Field(
        None, description="vorbis, opus, library: what a stored length is more than the bytes of its packet"
    )
    headers: Literal["setup", "stream", "none"] | None = Field(
        None, description="vorbis, opus: header packets in bank.setup, before the others, or none"
    )
    blocks: tuple[int, int] | None = Field(
        None, description="vorbis: frames of a short and a long block, where only the setup header is kept"
    )
    trimmed: list[str] | None = Field(
        None, description="vorbis: what of each packet is not stored, since it follows from elsewhere: type, windows"
    )
    skip: int | None = Field(None, description="opus, library: frames at the beginning that are not heard")
    sector: int | None = Field(
        None, description="xa-adpcm: bytes of a disc's sector; 0 where groups follow one another"
    )
    lead: int | None = Field(None, description="xa-adpcm: bytes of a sector before its sound")
    table: list[int] | None = Field(None, description="delta-pcm: 16 or 256 differences")
    first: int | None = Field(None, description="delta-pcm, table-adpcm: the sample before the first one")
    steps: list[int] | None = Field(None, description="table-adpcm: the step table")
    moves: list[int] | None = Field(
        None, description="table-adpcm: by how much the index into it changes, by a code without its sign"
    )
    scale: list[int] | None = Field(
        None, description="table-adpcm: instead of a table, what a step is multiplied with, in 1/256"
    )
    least: int | None = Field(None, description="table-adpcm: the least step, where steps are scaled")
    most: int | None = Field(None, description="table-adpcm: the greatest step, where steps are scaled")
    begin: int | None = Field(None, description="table-adpcm: the index, or the step, before the first code")
    stereo: Literal["apart", "sum"] | None = Field(
        None,
        description="table-adpcm: whether two channels are left and right, or half of their sum and of their difference",
    )
    align: int | None = Field(
        None,
        description="mpeg, adts: what each frame begins at a multiple of; 0 where any number of zeros may stand between",
    )
    turns: int | None = Field(None, description="mpeg, adts: so many streams stand in turns, frame by frame")
    plug_in: str | None = Field(None, description="plug-in: the name of an installed plug-in's codec")
    settings: dict[str, Any] | None = Field(None, description="plug-in: what it is to know")
    decoder: str | None = Field(None, description="library: the media library's name for a decoder")
    encoder: str | None = Field(None, description="library: its name for an encoder, where streams can be replaced")
    options: dict[str, str | int] | None = Field(None, description="library: what the encoder is given")
    kbits: int | None = Field(None, description="library: kbit/s that the encoder aims at; its own if left out")
    extradata: str | None = Field(None, description="library: what the decoder wants to know beforehand, hexadecimal")
    packet: int | None = Field(None, description="library: bytes given to the decoder at once")
    bits: int | None = Field(
        None,
        description="library: bits of a stored sample, where the decoder asks for that; table-adpcm: of a code, 2 to 5; "
        "packed-pcm: of a sample, 9 to 15",
    )
    wraps: bool | None = Field(None, description="delta-pcm: whether a sum beyond 16 bits wraps round")

    @property
    def parameters(self) -> tuple[tuple[str, object], ...]:
        """Those that are given, as a format holds them."""
        return frozen({name: value for name, value in self if value is not None and name != "codec"})

    @model_validator(mode="after")
    def _known(self):
        try:
            codec_named(self.codec, self.parameters)
        except ZubretError as e:
            raise ValueError(f"{e.what.rstrip('.')}. {e.next}") from None
        return self


def spec_of(codecs: Mapping[str, CodecModel], name: str) -> tuple[str, tuple[tuple[str, object], ...]]:
    """The codec and the parameters that a layout means by a name."""
    return (codecs[name].codec, codecs[name].parameters) if name in codecs else (name, ())


def name_of(codecs: Mapping[str, CodecModel], codec: str, parameters: tuple[tuple[str, object], ...]) -> str:
    """The name by which a layout knows a codec with these parameters; how many frames are skipped may stand in a record instead."""
    same = (n for n, c in codecs.items() if (c.codec, c.parameters) == (codec, parameters))
    bare = [p for p in parameters if p[0] != "skip"]
    near = (n for n, c in codecs.items() if c.codec == codec and [p for p in c.parameters if p[0] != "skip"] == bare)
    return next(same, None) or next(near, codec)
