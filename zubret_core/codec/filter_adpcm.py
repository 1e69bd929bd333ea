"""ADPCM of four bits with filters of two taps, in short frames that each choose a filter and a step.

Source: CD-ROM XA and its relatives (common practice): a frame's first byte holds filter and shift; a nibble stands for so many
steps, added to what the filter predicts from the last two samples. The default coefficients are the four of CD-ROM XA, in 1/64.
In other members of the family the step is a number of its own, and the filters stand in each stream's record: these are found
for a replacement by least squares (`two_taps.py`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, room, to_int16
from ..source import BytesSource, Source
from .base import by_channel, in_units, wrong_parameter
from .filter_frames import cost_of, decode_frames, encode_frames
from .resume import Resumable
from .turns import Turns, check_turns, turns_of
from .two_taps import found_filters

XA_FILTERS = ((0, 0), (60, 0), (115, -52), (98, -55))
"""What the last two samples weigh, in 1/64."""
WORDS = ("filter-shift", "shift-filter", "step", "step-filter")
ROUNDINGS = ("truncate", "nearest", "floor")
SIZES = {"filters": 4, "head": 2, "history": 4, "loop_head": 2, "loop_history": 4, "zero": 2}
"""Bytes of the words of a record; of filters, of each pair."""
STRETCHES, STRETCH = 12, 40
"""How many stretches of a sound its filters are judged by, and the frames of each."""


def _stretches(pcm: Signal, frame: int) -> NDArray[np.int64]:
    """(channels, stretches, 1 + frames, samples): some stretches of a sound, evenly apart; of a short one all of it."""
    count = -(-len(pcm) // frame)
    length = min(STRETCH, max(1, count))
    starts = np.unique(np.linspace(0, max(0, count - length), min(STRETCHES, -(-count // length))).astype(int))
    out = []
    for start in starts.tolist():
        samples = to_int16(pcm[max(0, (start - 1) * frame) : (start + length) * frame])
        ahead = frame if start == 0 else 0
        behind = (length + 1) * frame - ahead - len(samples)
        out.append(np.pad(samples, ((ahead, behind), (0, 0))))
    wide = np.array(out, np.int64)  # (stretches, samples, channels)
    return np.ascontiguousarray(wide.transpose(2, 0, 1)).reshape(wide.shape[2], len(out), length + 1, frame)


@dataclass(frozen=True)
class FilterAdpcm(Resumable):
    """Four bits a sample in frames of `frame` bytes of one channel.

    filters: pairs of coefficients in 1/unit; none where each stream's record holds `pairs` of them. word: what begins a frame:
    "filter-shift" or "shift-filter", a byte with the first in its high half; "step", a number of two bytes; "step-filter", the same
    with the filter in its upper three bits. grows: whether a step is 1 << shift, else it is 4096 >> shift. plus: what is added to a
    stored step. ends: whether a frame whose step has its highest bit set ends the stream. order: of bytes, of a step and in a record.
    flags: nothing, or what the second byte holds in a frame as it comes, in the loop's first, in its last (or the stream's), and in
    the last of a stream that plays once. nibbles: "low" or "high" first. rounding of the prediction: truncate, nearest or floor.
    interleave, last_turn, last_align: see `InTurns`.
    record: what a stream's setup holds for each channel, one behind the other: filters (pairs of 16 bits), head (the first frame's, in
    two bytes), history (the sample before the first one and the one before that), loop_head and loop_history (the same at the
    loop's start), zero (two bytes).
    """

    frame: int = 16
    filters: tuple[tuple[int, int], ...] = XA_FILTERS
    word: str = "filter-shift"
    flags: tuple[int, ...] = ()
    nibbles: str = "low"
    rounding: str = "nearest"
    interleave: int | str = 0
    last_turn: str = "filled"
    last_align: int = 0
    unit: int = 64
    grows: bool = False
    plus: int = 0
    ends: bool = False
    order: str = "little"
    record: tuple[str, ...] = ()
    pairs: int = 8
    label: str = "two-tap ADPCM"

    def __post_init__(self) -> None:
        for name, value, known in (
            ("word", self.word, WORDS),
            ("nibbles", self.nibbles, ("low", "high")),
            ("rounding", self.rounding, ROUNDINGS),
            ("order", self.order, ("little", "big")),
        ):
            if value not in known:
                raise wrong_parameter(name, value, f"choose from {', '.join(known)}")
        if not 16 <= self.unit <= 1 << 15 or self.unit & (self.unit - 1):
            raise wrong_parameter("unit", self.unit, "it is a power of two from 16 to 32,768")
        if any(word not in SIZES for word in self.record) or len(set(self.record) - {"zero"}) + self.record.count(
            "zero"
        ) != len(self.record):
            raise wrong_parameter("record", self.record, f"it is a row of {', '.join(SIZES)}, each but zero once")
        if not 1 <= self.pairs <= 16:
            raise wrong_parameter("pairs", self.pairs, "it is a number from 1 to 16")
        whole = all(len(f) == 2 and max(map(abs, f)) < 16 * self.unit for f in self.filters)
        if not 1 <= len(self.filters) <= 16 or not whole:
            raise wrong_parameter("filters", self.filters, "it is 1 to 16 pairs of numbers, each below 16 units")
        if self.word == "step" and not self._in_record and len(self.filters) > 1:
            raise wrong_parameter("filters", self.filters, "frames that begin with a step alone have one filter")
        if len(self.flags) not in (0, 4) or any(not 0 <= f < 256 for f in self.flags) or (self.flags and self._wide):
            raise wrong_parameter("flags", self.flags, "it is four bytes: as it comes, loop start, loop end, last")
        if not 0 <= self.plus <= 1:
            raise wrong_parameter("plus", self.plus, "it is 0 or 1")
        if not self._header < self.frame <= 1 << 12:
            raise wrong_parameter("frame", self.frame, f"it is more than {self._header} bytes, and at most 4,096")
        check_turns(self, self.frame)

    @property
    def wants_setup(self) -> bool:  # type: ignore[override]
        return bool(self.record)

    @property
    def _in_record(self) -> bool:
        return "filters" in self.record

    @property
    def _wide(self) -> bool:
        return self.word.startswith("step")

    @property
    def _header(self) -> int:
        return 2 if self.flags or self._wide else 1

    @property
    def _count_of_filters(self) -> int:
        return self.pairs if self._in_record else len(self.filters)

    def _shape(self) -> NDArray[np.int64]:
        """What the kernels want to know: word, grows, big, plus, ends, bytes of a header, low half first, filters, bits of a
        unit, rounding."""
        count = 1 if self.word == "step" else self._count_of_filters
        return np.array(
            [
                WORDS.index(self.word), self.grows, self.order == "big", self.plus, self.ends, self._header,
                self.nibbles == "low", count, self.unit.bit_length() - 1, ROUNDINGS.index(self.rounding),
            ],
            np.int64,
        )  # fmt: skip

    def block_frames(self, format: Format) -> int:
        return (self.frame - self._header) * 2

    def _count(self, format: Format) -> int:
        """Frames of the codec in each channel."""
        return -(-format.frames // self.block_frames(format))

    def turn_frames(self, format: Format) -> int:
        if format.channels == 1:
            return self.block_frames(format)
        return 0 if self.interleave == -1 else self._turns(format).turn * self.block_frames(format)

    def _turns(self, format: Format) -> Turns:
        return turns_of(self, format, self.frame, self._count(format))

    def stored_size(self, format: Format) -> int:
        return self._turns(format).size

    def _places(self, format: Format, first: int, count: int, channel: int) -> NDArray[np.int64]:
        """Where frames of a channel begin."""
        turns = self._turns(format)
        if format.channels == 1 or first // turns.turn == (first + count - 1) // turns.turn:
            begin = turns.at(first, channel)
            return np.arange(begin, begin + count * self.frame, self.frame)
        begins = turns.begins(first // turns.turn, -(-(first + count) // turns.turn), channel)
        places = np.add.outer(begins, np.arange(turns.turn) * self.frame).reshape(-1)
        return places[first % turns.turn : first % turns.turn + count]

    def _unit_frames(self, format: Format) -> int:
        return self.block_frames(format)

    # What a stream's record says ------------------------------------------------------------------------

    def _record_bytes(self) -> int:
        return sum(SIZES[word] * (self.pairs if word == "filters" else 1) for word in self.record)

    def _in_records(self, format: Format, what: str) -> NDArray[np.int64] | None:
        """Numbers of 16 bits of a word of the record, (channels, numbers); None where no record has it."""
        if what not in self.record:
            return None
        size = self._record_bytes()
        if len(format.setup) < size * format.channels:
            raise ZubretError(
                f"The stream's setup has {len(format.setup)} bytes; {size} are needed for each of {format.channels} channels.",
                field="setup",
                next="Correct the layout: a field of bytes must mean stream.setup.",
            )
        at, length = 0, SIZES[what] * (self.pairs if what == "filters" else 1)
        for word in self.record[: self.record.index(what)]:
            at += SIZES[word] * (self.pairs if word == "filters" else 1)
        rows = np.frombuffer(format.setup[: size * format.channels], np.uint8).reshape(-1, size)[:, at : at + length]
        return np.ascontiguousarray(rows).view(">i2" if self.order == "big" else "<i2").astype(np.int64)

    def _filters(self, format: Format) -> NDArray[np.int64]:
        """(channels, filters, 2)."""
        own = self._in_records(format, "filters")
        if own is not None:
            return own.reshape(format.channels, self.pairs, 2)
        return np.repeat(np.array(self.filters, np.int64)[None], format.channels, axis=0)

    def fitted(self, pcm: Signal, format: Format) -> Format:
        """The format with filters for these samples, where its record holds any; what else it holds is put in by `told`."""
        if not self._in_record:
            return format
        count, frame, shape = 1 if self.word == "step" else self.pairs, self.block_frames(format), self._shape()
        stretches = _stretches(pcm, frame)

        def cost(channel: int, filters: NDArray[np.int64]) -> int:
            return int(cost_of(stretches[channel], shape, filters))

        own = found_filters(pcm, frame, count, self.unit, cost)
        filters = np.zeros((format.channels, self.pairs, 2), np.int64)
        filters[:, :count] = own
        return format.with_(setup=self._written(format, {"filters": filters.reshape(format.channels, -1)}))

    def _written(self, format: Format, values: dict[str, NDArray[np.int64]]) -> bytes:
        kind, rows = ">i2" if self.order == "big" else "<i2", []
        for channel in range(format.channels):
            for word in self.record:
                count = SIZES[word] // 2 * (self.pairs if word == "filters" else 1)
                row = values[word][channel] if word in values else np.zeros(count, np.int64)
                rows.append(row.astype(np.int64).astype(kind).tobytes())
        return b"".join(rows)

    def told(self, payload: Source, format: Format) -> Format:
        """The format with heads and histories of this payload in its record."""
        if not self.record:
            return format
        loop = format.loop.start if format.loop else 0
        values = {"history": np.zeros((format.channels, 2), np.int64)}
        if self._in_record:
            values["filters"] = self._filters(format).reshape(format.channels, -1)
        values["head"] = self._heads(payload, format, 0)
        values["loop_head"] = self._heads(payload, format, loop) if format.loop else values["head"] * 0
        values["loop_history"] = values["history"]
        blank = format.with_(setup=self._written(format, values))
        if loop and "loop_history" in self.record:
            heard = self.decode(payload, blank, max(0, loop - 2), min(2, loop))
            past = np.zeros((2, format.channels), np.int64)
            past[2 - len(heard) :] = heard
            values["loop_history"] = past[::-1].T
        return format.with_(setup=self._written(format, values))

    def _heads(self, payload: Source, format: Format, frame: int) -> NDArray[np.int64]:
        """The first bytes of the frame of each channel in which a sample stands."""
        number = min(frame // self.block_frames(format), max(0, self._count(format) - 1))
        out = np.zeros((format.channels, 1), np.int64)
        for c in range(format.channels if payload.size else 0):
            at = int(self._places(format, number, 1, c)[0])
            head = payload.read(at, 2 if self._wide else 1)
            out[c] = int.from_bytes(head, "big" if self.order == "big" else "little", signed=self._wide)
        return out

    # Reading and writing --------------------------------------------------------------------------------

    def _start(self, format: Format) -> NDArray[np.int64]:
        state = np.zeros((format.channels + format.channels % 2, 2), np.int64)
        own = self._in_records(format, "history")
        if own is not None:
            state[: format.channels] = own
        return state

    def _run(self, payload: Source, format: Format, first: int, units: int, state: NDArray) -> tuple[NDArray, NDArray]:
        filters, state, frames = self._filters(format), state.copy(), units * self.block_frames(format)
        pairs, shape = [], self._shape()
        for c in range(0, format.channels, 2):
            both = [c, min(c + 1, format.channels - 1)]
            places = [self._places(format, first, units, n) for n in both]
            data, a, b = self._read(payload, *places)
            out = np.empty((frames, 2), np.int16)
            bad = decode_frames(data, a, b, shape, filters[both], state[c : c + 2], out.reshape(-1))
            if bad >= 0:
                frame, second = divmod(bad, 2)
                raise ZubretError(
                    f"Frame {first + frame:,} of channel {c + second} names a filter or a shift that there is not.",
                    file=payload.name,
                    offset=int(places[second][frame]),
                    field="filter and shift",
                    next="The stream is damaged, or the layout describes its frames wrongly.",
                )
            pairs.append(out)
        whole = pairs[0] if len(pairs) == 1 else np.concatenate(pairs, axis=1)
        return whole[:, : format.channels], state

    def _read(self, payload: Source, a: NDArray, b: NDArray) -> tuple[NDArray[np.uint8], NDArray, NDArray]:
        """The bytes in which the frames of two channels stand, and the frames' places in them."""
        low, high = int(min(a[0], b[0])), int(max(a[-1], b[-1])) + self.frame
        if high - low <= 4 * len(a) * self.frame * 2:
            return np.frombuffer(payload.read(low, high - low), np.uint8), a - low, b - low
        parts = [payload.read(int(p[0]), int(p[-1]) + self.frame - int(p[0])) for p in (a, b)]
        return np.frombuffer(b"".join(parts), np.uint8), a - a[0], b - b[0] + len(parts[0])

    def encode(self, pcm: Signal, format: Format, reach: int = 1) -> memoryview:
        """`reach`: how far around the step that just fits others are tried."""
        format = format.with_(frames=len(pcm))
        out, state, filters = room(self.stored_size(format), np.uint8), self._start(format) * 0, self._filters(format)
        with by_channel(format.channels) as each:
            for first, _, samples in in_units(pcm, self.block_frames(format)):
                each(self.encode_channel, samples, format, first, state, out, reach, filters)
        for n, flag in self._flags_of(format).items():
            for c in range(format.channels):
                out[self._places(format, n, 1, c) + 1] = flag
        return out.data

    def encode_channel(
        self,
        c: int,
        pcm: NDArray[np.int16],
        format: Format,
        first: int,
        state: NDArray,
        out: NDArray,
        reach: int = 1,
        filters: NDArray | None = None,
    ) -> None:
        """Encode whole frames of a channel, from number `first` on, to their places in a stream of this format."""
        channel = np.ascontiguousarray(pcm[:, c]).reshape(-1, self.block_frames(format))
        places = self._places(format, first, len(channel), c)
        shape, own = self._shape(), (self._filters(format) if filters is None else filters)[c]
        encode_frames(channel, places, shape, own[: shape[7]], reach, state[c], out)
        if self.flags:
            out[places + 1] = self.flags[0]

    def _flags_of(self, format: Format) -> dict[int, int]:
        """By its number, the flag of each frame that has another than the usual one."""
        if not self.flags or not format.frames:
            return {}
        _, loop_start, loop_end, last = self.flags
        end = self._count(format) - 1
        if format.loop is None:
            return {end: last}
        per_frame = self.block_frames(format)
        return {end: loop_end, format.loop.start // per_frame: loop_start, (format.loop.end - 1) // per_frame: loop_end}

    def warm(self) -> None:
        format = Format("filter-adpcm", 8000, 1, 30)
        self.decode(BytesSource(self.encode(np.zeros((30, 1), np.int16), format)), format, 0, 30)
        cost_of(np.zeros((0, 2, 2), np.int64), self._shape(), np.zeros((1, 2), np.int64))
