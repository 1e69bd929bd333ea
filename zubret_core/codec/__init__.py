"""Codecs: payload bytes to samples and back."""

from __future__ import annotations

from dataclasses import fields, is_dataclass, replace
from functools import lru_cache
from typing import Any

from ..base import Format, ZubretError
from .base import Codec
from .delta_pcm import DeltaPcm
from .file import AudioFile
from .filter_adpcm import FilterAdpcm
from .library import Library
from .mpeg import Framed
from .ms_adpcm import MsAdpcm
from .packed_pcm import PackedPcm
from .packets import OpusPackets, Packets, VorbisPackets, comment_header
from .pcm import Pcm
from .plug_in import PlugInCodec
from .step_adpcm import StepAdpcm
from .table_adpcm import TableAdpcm
from .xa_adpcm import XaAdpcm

CODECS: dict[str, Codec] = {
    "pcm": Pcm(),
    "pcm16": Pcm(),
    "packed-pcm": PackedPcm(),
    "g711-a": Pcm("a-law"),
    "g711-mu": Pcm("mu-law"),
    "ima-adpcm": StepAdpcm(),
    "dvi4": StepAdpcm("dvi4", "high", 1, label="DVI4 ADPCM"),
    "step-adpcm": StepAdpcm(label="step-table ADPCM"),
    "ms-adpcm": MsAdpcm(),
    "filter-adpcm": FilterAdpcm(),
    "xa-adpcm": XaAdpcm(),
    "delta-pcm": DeltaPcm(),
    "table-adpcm": TableAdpcm(),
    "vorbis": VorbisPackets(),
    "opus": OpusPackets(),
    "mpeg": Framed(),
    "adts": Framed(label="AAC in ADTS"),
    "library": Library(),
    "plug-in": PlugInCodec(),
    "file": AudioFile(),
}
"""Every codec by the name that layouts use; a layout may give other parameters."""


def parameters_of(name: str) -> list[str]:
    """The parameters that a codec takes in a layout."""
    codec = CODECS[name]
    return [f.name for f in fields(codec) if f.name != "label"] if is_dataclass(codec) else []


@lru_cache(maxsize=256)
def codec_named(name: str, parameters: tuple[tuple[str, Any], ...] = ()) -> Codec:
    """A codec with parameters; ZubretError for a name or a parameter that there is not."""
    if name not in CODECS:
        raise ZubretError(
            f'"{name}" is no codec that Zubret has.', field="codec", next=f"Use one of {', '.join(CODECS)}."
        )
    known = parameters_of(name)
    for word, _ in parameters:
        if word not in known:
            raise ZubretError(
                f'The codec {name} has no parameter "{word}".',
                field=word,
                next=f"It has {', '.join(known) or 'none'}.",
            )
    codec: Any = CODECS[name]
    return replace(codec, **dict(parameters)) if parameters else codec


def codec_of(format: Format) -> Codec:
    """The codec of a stream, with its parameters."""
    return codec_named(format.codec, format.parameters)


__all__ = [
    "CODECS",
    "AudioFile",
    "Codec",
    "Framed",
    "Packets",
    "Pcm",
    "VorbisPackets",
    "codec_named",
    "codec_of",
    "comment_header",
    "parameters_of",
]
