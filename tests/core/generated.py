"""Whole layouts and files for them, made at random: what the layout says as text, and the file by an encoder and a second
reader of the tests' own, which know nothing of the core. They work from the description below with plain Python alone.

A file is a head, some tables (records), and payloads, in companions or volumes if need be. Everything that a record holds
is one of `KINDS`; `Tied` numbers follow from where things stand.
"""

import random
import zlib
from dataclasses import dataclass, field

MARK = b"GZ"


def leb(value: int) -> bytes:
    """DWARF 5, section 7.6, figure 46: the low seven bits of each byte, the highest set on all but the last."""
    out = b""
    while True:
        byte, value = value & 127, value >> 7
        if not value:
            return out + bytes([byte])
        out += bytes([byte | 128])


@dataclass
class Field:
    """One field: its type, what else its line says, and what it holds.

    value: of untied fields, by record; tie: what a tied one follows from; base, unit: of the tie, worked out from the
    record by `of`; only: the tag of the records that have it, None for all.
    """

    name: str
    type: str
    keys: str = ""
    value: list = field(default_factory=list)
    tie: str = ""
    unit: int = 1
    base: str = ""
    only: int | None = None
    size: int = 0
    ends: bytes = b""
    counted: str = ""
    parts: list = field(default_factory=list)
    to: int = 1

    def line(self) -> str:
        when = f", when: tag == {self.only}" if self.only is not None else ""
        return f"{{name: {self.name}, type: {self.type}{self.keys}{when}}}"

    def encode(self, stored, at: int, order: str) -> bytes:
        if self.type == "varint":
            return leb(stored)
        if self.type == "align":
            return bytes(-at % self.to)
        if self.type == "digits":
            return b"%d" % stored + self.ends if self.ends else b"%0*o" % (self.size, stored)
        if self.type in ("text", "bytes"):
            data = stored if isinstance(stored, bytes) else stored.encode()
            if self.counted:
                data = (leb(len(data)) if self.counted == "varint" else bytes([len(data)])) + data
            return data + self.ends if self.ends or self.counted else data.ljust(self.size, b"\0")
        return int(stored).to_bytes(self.size, order, signed=self.type[0] == "i")

    def decode(self, data: bytes, at: int, start: int, order: str):
        """(stored value, place behind it); `start` is where data begins in its file."""
        if self.type == "varint" or self.counted == "varint":
            value = shift = 0
            while True:
                byte = data[at]
                value, shift, at = value | (byte & 127) << shift, shift + 7, at + 1
                if byte < 128:
                    break
            return (value, at) if self.type == "varint" else (data[at : at + value], at + value)
        if self.type == "align":
            return None, at + -(start + at) % self.to
        if self.counted:
            return data[at + 1 : at + 1 + data[at]], at + 1 + data[at]
        if self.ends:
            end = data.index(self.ends, at)
            return int(data[at:end]) if self.type == "digits" else data[at:end], end + len(self.ends)
        raw = data[at : at + self.size]
        if self.type == "digits":
            return int(raw, 8), at + self.size
        if self.type in ("text", "bytes"):
            return (raw.split(b"\0")[0] if self.type == "text" else raw), at + self.size
        return int.from_bytes(raw, order, signed=self.type[0] == "i"), at + self.size


INTS = {"u8": 1, "u16": 2, "u24": 3, "u32": 4, "u48": 6, "u64": 8, "i16": 2, "i32": 4, "i64": 8}


def integer(rng: random.Random, name: str, least: int = 4, **more) -> Field:
    kind = rng.choice([k for k, n in INTS.items() if n >= least])
    return Field(name, kind, size=INTS[kind], **more)


def junk(rng: random.Random, name: str, count: int, variable: bool) -> Field:
    """A field that nothing ties."""
    kind = rng.choice(
        ["int", "bytes", "text", "bits", "float"] + (["ends", "counted", "varint", "align"] if variable else [])
    )
    if kind == "bytes":
        n = rng.randrange(1, 6)
        length = f"{n + 2} - 2" if variable and rng.random() < 0.5 else n
        return Field(name, "bytes", f", length: {length}", [rng.randbytes(n) for _ in range(count)], size=n)
    if kind == "float":
        return Field(name, "f32", "", [rng.randrange(1 << 32) for _ in range(count)], size=4)
    if kind == "align":
        to = rng.choice((2, 4, 8))
        return Field(name, "align", f", to: {to}", to=to)
    words = [bytes(rng.choice(b"abcdef") for _ in range(rng.randrange(8))) for _ in range(count)]
    if kind == "text":
        return Field(name, "text", ", length: 8", words, size=8)
    if kind == "ends":
        return Field(name, "text", ', ends: "00"', words, ends=b"\0")
    if kind == "counted":
        how = rng.choice(("u8", "varint"))
        return Field(name, "text", f", counted: {how}", words, counted=how)
    if kind == "varint":
        return Field(name, "varint", "", [rng.choice((0, 1, 127, 128, 70000)) for _ in range(count)])
    made = integer(rng, name, 1)
    bits = 8 * made.size - (made.type[0] == "i")
    made.value = [rng.randrange(1 << bits) for _ in range(count)]
    return made


@dataclass
class Item:
    """A payload as it should be found: its name, bytes, the table and the row of its record, its volume, and after it
    the bytes that nothing explains."""

    name: str
    data: bytes
    table: int
    row: int
    tag: int = 0
    shares: int = -1
    volume: int = 0
    junk: bytes = b""
    loop: tuple[int, int] = (0, 0)
    at: int = 0


@dataclass
class Table:
    """A region of records; fields in order."""

    name: str
    fields: list[Field]
    items: list[Item]
    packed: str = ""
    record_sum: bool = False


class Made:
    """One layout with one file, by a seed."""

    def __init__(self, seed: int):
        rng = self.rng = random.Random(seed)
        self.order = rng.choice(("little", "big"))
        self.bank = rng.random() < 0.35
        self.kind = "stream" if self.bank else "entry"
        self.bodies = not self.bank and rng.random() < 0.2
        self.next = not self.bodies and rng.random() < 0.1
        self.align = 1 if self.bodies or self.next else rng.choice((1, 1, 2, 4, 16))
        self.fill = rng.choice((0, 0xEE))
        self.before, self.behind = (
            (0, 0) if self.bodies or self.next else (rng.choice((0, 0, 0, 3)), rng.choice((0, 0, 6, 12)))
        )
        self.guard_fill = rng.choice((self.fill, 0x77))
        ends = ((1, 0), (8, 0), (16, 0), (8, 8 if self.bodies else 0))
        self.end_align, self.end_least = (1, 0) if self.next else rng.choice(ends)  # else the fill is the last one's
        self.files = rng.choice(("", "", "one", "volumes")) if not self.bodies else ""
        self.variable = rng.random() < 0.5
        self.first = not self.bodies and rng.random() < 0.5  # tables before the payloads
        self.tables: list[Table] = []
        self.pool = b""
        self.limit = 200
        for number in range(rng.choice((1, 1, 1, 2)) if not self.bodies else 1):
            self.tables.append(self._table(number))
        self.items = [i for t in self.tables for i in t.items]
        self._head()
        self.regions: list[str] = []

    # Describing -------------------------------------------------------------------------------------

    def _table(self, number: int) -> Table:
        rng, count = self.rng, self.rng.randrange(1, 7)
        items = []
        for row in range(count):
            size = 2 * rng.randrange(1, 20) if self.bank else rng.randrange(1, 40)
            item = Item(f"n{number}{row}", rng.randbytes(size), number, row, rng.randrange(2))
            if row and rng.random() < 0.15 and not self.bodies and items[-1].shares < 0:
                item.shares, item.data, item.volume = row - 1, items[-1].data, items[-1].volume
            elif self.files == "volumes":
                item.volume = rng.randrange(2)
            if rng.random() < 0.3 and not self.bodies and not self.next:
                item.junk = b"J" + rng.randbytes(rng.randrange(4)) + b"K"
            if item.shares >= 0:
                item.loop = items[-1].loop  # what shares a payload shares its swap
            elif self.bank and rng.random() < 0.6:
                frames = size // 2
                start = rng.randrange(frames)
                item.loop = start, rng.randrange(start, frames) + 1
            items.append(item)
        table = Table(f"table{number}", [], items)
        table.packed = (
            rng.choice(("", "", "", "xor", "xor" if self.first else "zlib"))
            if not self.variable and not self.bodies
            else ""
        )
        union = self.variable and rng.random() < 0.3 and not self.bodies
        fields = self._names(table, number)
        fields += self._places(table, union)
        fields += [junk(rng, f"j{n}", count, self.variable) for n in range(rng.randrange(4))]
        if self.bank:
            fields += self._loops(rng)
        if rng.random() < 0.3 and not self.bodies:
            fields.append(Field("paysum", "u32", ", sum: {by: crc32, of: stored}", tie="paysum", size=4))
        table.record_sum = rng.random() < 0.3
        if table.record_sum:
            fields.append(Field("recsum", "u16", ', sum: {by: added, of: record, blank: "20"}', tie="recsum", size=2))
        rng.shuffle(fields)
        if union:
            fields.insert(0, Field("tag", "u8", ", one_of: [0, 1]", [i.tag for i in items], size=1))
        if self.bodies:
            fields.insert(0, Field("here", "u8", ", equals: 7", [7] * count, size=1))
        table.fields = fields
        return table

    def _names(self, table: Table, number: int) -> list[Field]:
        rng, items = self.rng, table.items
        means = ", means: entry.path" if not self.bank else ", means: stream.id"
        names = [i.name.encode() for i in items]
        kinds = ["fixed", "pool"] + (["ends", "counted"] if self.variable else [])
        kind = rng.choice(kinds) if not self.bodies else "fixed"
        if kind == "pool":
            offsets = []
            for name in names:
                offsets.append(len(self.pool))
                self.pool += name + b"\0"
            return [integer(rng, "name", 2, keys=f"{means}, pool: names", value=offsets, tie="")]
        if kind == "ends":
            return [Field("name", "text", f', ends: "0a"{means}', names, ends=b"\n")]
        if kind == "counted":
            return [Field("name", "text", f", counted: u8{means}", names, counted="u8")]
        return [Field("name", "text", f", length: 6{means}", names, size=6)]

    def _places(self, table: Table, union: bool) -> list[Field]:
        rng, kind, out = self.rng, self.kind, []
        if self.bodies:
            size = rng.choice(
                (
                    Field("size", "digits", ", length: 6, radix: 8", tie="stored", size=6),
                    integer(rng, "size", 2, tie="stored"),
                )
            )
            size.keys += f", means: {kind}.stored" if not size.keys.endswith("stored") else ""
            return [size]
        units = [u for u in (1, 2, 4, 16) if self.align % u == 0]
        for name, only in (("at", None),) if not union else (("at0", 0), ("at1", 1)):
            made = integer(rng, name, 4, tie="at", only=only, unit=rng.choice(units))
            long = self.variable and rng.random() < 0.4
            if long:
                made = self._as_long_as_it_is(name, "at", only=only, unit=made.unit)
            bases = ["", "", "-8", "-lag"] + (["head.payload_at"] if not self.files else [])
            bases += ["record.at", "region.at"] if made.unit == 1 and made.type[0] == "i" and not table.packed else []
            made.base = rng.choice(bases if made.unit == 1 else ["", "-16"])
            if long and made.base == "head.payload_at":
                made.base = ""
            if made.type == "u64" and made.unit == 1 and rng.random() < 0.3:
                made.base = "-1099511627776"
            if made.base == "-lag" and not any(f.name == "lag" for f in out):
                out.append(Field("lag", "u16", "", [rng.randrange(60000) for _ in table.items], size=2))
            unit = f", unit: {made.unit}" if made.unit > 1 else ""
            base = f', base: "{made.base}"' if made.base else ""
            made.keys += f", means: {kind}.at{unit}{base}"
            out.append(made)
        if not self.next:
            what = rng.choice(("stored", "end"))
            made = integer(rng, what, 4, tie=what, keys=f", means: {kind}.{what}")
            if self.variable and rng.random() < 0.4:
                made = self._as_long_as_it_is(what, what)
                made.keys += f", means: {kind}.{what}"
            out.append(made)
        if self.files == "volumes":
            out.append(Field("volume", "u8", f", means: {kind}.volume", tie="volume", size=1))
        return out

    def _as_long_as_it_is(self, name: str, tie: str, **more) -> Field:
        """A number that takes as many bytes as it needs."""
        if self.rng.random() < 0.5:
            return Field(name, "varint", tie=tie, **more)
        return Field(name, "digits", ', ends: "3b"', ends=b";", tie=tie, **more)

    def _loops(self, rng: random.Random) -> list[Field]:
        """Loop points in frames, from the stream's start or from the start of the file (in frames of two bytes)."""
        how = rng.choice(("frames", "pool", "length", "bytes"))
        out = [Field("frames", "u32", ", means: stream.frames", tie="frames", size=4)] if rng.random() < 0.5 else []
        keys = {"frames": "", "length": "", "bytes": ", unit: bytes", "pool": ', base: "-(stream.at // 2)"'}[how]
        out.append(Field("loop_a", "u32", f", means: stream.loop_start{keys}", tie=f"loop_a {how}", size=4))
        last = "loop_length" if how == "length" else "loop_end"
        out.append(Field("loop_b", "u32", f", means: stream.{last}{keys}", tie=f"loop_b {how}", size=4))
        return out

    def _head(self) -> None:
        rng = self.rng
        fields = [integer(rng, f"count{n}", 2, tie=f"count{n}") for n in range(len(self.tables))]
        for n, f in enumerate(fields):
            f.keys = f", means: table{n}.count"
        if self.pool:
            fields.append(integer(rng, "names_size", 2, tie="names_size", keys=", means: names.stored"))
        for n, table in enumerate(self.tables):
            if table.packed == "zlib":
                fields.append(integer(rng, f"packed{n}", 2, tie=f"packed{n}", keys=f", means: table{n}.stored"))
        if not self.bodies:
            fields.append(integer(rng, "payload_at", 4, tie="payload_at", keys=", means: payload.at"))
            if not self.first:
                fields.append(integer(rng, "table_at", 4, tie="table_at", keys=", means: table0.at"))
        if rng.random() < 0.4:
            fields.append(integer(rng, "size", 4, tie="size", keys=", means: file.size"))
        fields += [junk(rng, f"h{n}", 1, False) for n in range(rng.randrange(3))]
        if not self.bodies and rng.random() < 0.4:
            fields.append(Field("tsum", "u32", ", sum: {by: crc32, of: table0}", tie="tsum", size=4))
        if rng.random() < 0.3:
            fields.append(Field("ssum", "u32", ', sum: {by: crc32, of: span, start: 1, end: "head_end.here + 2", blank: "00"}', tie="ssum", size=4))  # fmt: skip
        rng.shuffle(fields)
        if rng.random() < 0.4 and not any(f.name == "ssum" for f in fields):  # else each would cover the other
            fields.append(Field("fsum", "u32", ', sum: {by: adler32, of: file, blank: "20"}', tie="fsum", size=4))
        self.head = [Field("mark", "bytes", ", length: 2", [MARK], size=2), *fields]

    def layout(self) -> str:
        """The layout's text."""
        head_size = sum(f.size for f in self.head)
        lines = ["zubret: 1", "id: generated", f"describes: {'bank' if self.bank else 'archive'}", f"byte_order: {self.order}",
                 'recognise: [{at: 0, bytes: "47 5a"}]']  # fmt: skip
        if self.bank:
            lines.append("given: {stream.codec: pcm16, stream.rate: 8000}")
        if self.files:
            name = "{stem}.hold" if self.files == "one" else "{stem}.{volume:02}"
            lines.append(
                f'files: {{hold: {{name: "{name}"{f", limit: {self.limit}" if self.files == "volumes" else ""}}}}}'
            )
        lines.append("regions:")
        lines += self._region_lines("head", ["at: 0"], self.head)
        lines += self._region_lines(
            "head_end", ["after: head"], [Field("here", "u16", f", equals: {head_size}", size=2)]
        )
        before = "head_end"
        if self.pool:
            lines += ["  - name: names", "    after: head_end", "    size: head.names_size", '    pool: {ends: "00"}']
            before = "names"
        for n, table in enumerate(self.tables):
            where = [f"after: {before}"] if self.first or n or self.bodies else []
            where += [f"group: g{n}"]
            where += [f"repeat: head.count{n}"]
            if table.packed == "xor":
                where += [
                    f"size: head.count{n} * {sum(f.size for f in table.fields)}",
                    'packed: [{by: xor, bytes: "5a a5 01"}]',
                ]
            elif table.packed:
                where += [f"size: head.packed{n}", "packed: [zlib]"]
            if self.bodies:
                where.append(f"body: {{size: size, align: {self.body_align}}}")
            lines += self._region_lines(table.name, where, table.fields)
            before = table.name
        guards = ""
        for side, n in (("before", self.before), ("behind", self.behind)):
            fill = f', fill: "{self.guard_fill:02x}"' if self.guard_fill != self.fill else ""
            what = f"frames: {n // 2}" if self.bank and n % 2 == 0 else f"bytes: {n}"
            guards += f", {side}: {{{what}{fill}}}" if n else ""
        more = ", file: hold" if self.files else ""
        more += ", sizes: next" if self.next else ""
        lines.append(f'payload: {{align: {self.align}, fill: "{self.fill:02x}"{guards}{more}}}')
        least = f", least: {self.end_least}" if self.end_least else ""
        lines.append(f'end: {{align: {self.end_align}, fill: "{self.fill:02x}"{least}}}')
        return "\n".join(lines) + "\n"

    @property
    def body_align(self) -> int:
        return 4 if self.end_least else 2

    def _region_lines(self, name: str, keys: list[str], fields: list[Field]) -> list[str]:
        return [
            f"  - name: {name}",
            *(f"    {k}" for k in keys),
            "    fields:",
            *(f"      - {f.line()}" for f in fields),
        ]

    # Encoding ---------------------------------------------------------------------------------------

    def files_of(self) -> dict[str, bytes]:
        """The described file under "", companions by their names."""
        self.spot = {"payload_at": 0, "size": 0, "names_size": len(self.pool), "table_at": 0}
        for n, table in enumerate(self.tables):
            self.spot[f"count{n}"] = len(table.items)
            self.spot[f"packed{n}"] = 0
        out: dict[str, bytes] = {}
        for _ in range(6):
            before, out = out, self._pass()
            if out == before:
                break
        return self._summed(out)

    def _pass(self) -> dict[str, bytes]:
        head_size = sum(f.size for f in self.head)
        start = head_size + 2 + len(self.pool)
        self.table_bytes, self.record_at = {}, {}
        main = bytearray(start)
        if self.first:
            self._put_tables(main)
        files = {"": main}
        if self.bodies:
            self._put_bodies(main)
        else:
            self._put_payloads(files, main)
        if not self.first and not self.bodies:
            self.spot["table_at"] = len(main)
            self._put_tables(main)
        for data in files.values():
            fill = bytes([self.fill])
            data += fill * self.end_least
            data += fill * (-len(data) % self.end_align)
        self.spot["size"] = len(main)
        head = b"".join(f.encode(f.value[0] if f.value else self.spot.get(f.tie, 0), 0, self.order) for f in self.head)
        main[:start] = head + head_size.to_bytes(2, self.order) + self.pool
        return {n: bytes(d) for n, d in files.items()}

    def _put_payloads(self, files: dict[str, bytearray], main: bytearray) -> None:
        for item in self.items:
            if item.shares >= 0:
                item.at = next(i for i in self.items if (i.table, i.row) == (item.table, item.shares)).at
                continue
            name = "" if not self.files else "x.hold" if self.files == "one" else f"x.{item.volume:02}"
            data = files.setdefault(name, bytearray())
            guard, fill = bytes([self.guard_fill]), bytes([self.fill])
            data += fill * (-(len(data) + self.before) % self.align)
            item.at = len(data) + self.before
            if item is self.items[0] or "payload" not in self.spot:
                self.spot["payload_at"] = item.at if not self.files else 0
                self.spot["payload"] = 1
            data += guard * self.before + item.data + guard * self.behind + item.junk
        del self.spot["payload"]
        if self.files == "volumes":
            for n in (0, 1):
                files.setdefault(f"x.{n:02}", bytearray())

    def _put_tables(self, main: bytearray) -> None:
        for n, table in enumerate(self.tables):
            start = 0 if table.packed else len(main)
            data = bytearray()
            for row, item in enumerate(table.items):
                self.record_at[n, row] = start + len(data)
                data += self._record(table, n, row, item, start + len(data), start)
            self.table_bytes[n] = bytes(data)
            stored = bytes(data)
            if table.packed == "xor":
                stored = bytes(b ^ b"\x5a\xa5\x01"[i % 3] for i, b in enumerate(data))
            elif table.packed:
                stored = zlib.compress(bytes(data), 6)
            self.spot[f"packed{n}"] = len(stored)
            main += stored

    def _put_bodies(self, main: bytearray) -> None:
        for row, item in enumerate(self.tables[0].items):
            main += bytes(-len(main) % (self.body_align if row else 1))
            self.record_at[0, row] = len(main)
            main += self._record(self.tables[0], 0, row, item, len(main), 0)
            item.at = len(main)
            main += item.data

    def _record(self, table: Table, n: int, row: int, item: Item, at: int, region_at: int) -> bytes:
        out, where = b"", {}
        for f in table.fields:
            if f.only is not None and f.only != item.tag:
                continue
            stored = f.value[row] if f.value else self.stored(f, table, row, item, at, region_at)
            where[f.name] = len(out), f
            out += f.encode(stored, at + len(out), self.order)
        if table.record_sum:
            place, f = where["recsum"]
            blank = out[:place] + b"\x20\x20" + out[place + 2 :]
            out = out[:place] + f.encode(sum(blank) & 0xFFFF, 0, self.order) + out[place + 2 :]
        return out

    def stored(self, f: Field, table: Table, row: int, item: Item, at: int, region_at: int) -> int:
        """A tied field's number."""
        how = f.tie.partition(" ")[2]
        if f.tie == "at":
            lag = next((x for x in table.fields if x.name == "lag"), None)
            base = {"": 0, "-lag": -lag.value[row] if lag else 0, "head.payload_at": self.spot["payload_at"],
                    "record.at": at, "region.at": region_at}.get(f.base)  # fmt: skip
            return (item.at - (int(f.base) if base is None else base)) // f.unit
        start, end = item.loop
        first = item.at // 2 if how == "pool" else 0
        if f.tie.startswith("loop_a"):
            return start * (2 if how == "bytes" else 1) + first
        if f.tie.startswith("loop_b"):
            return end - start if how == "length" else end * (2 if how == "bytes" else 1) + first
        return {"stored": len(item.data), "end": item.at + len(item.data), "volume": item.volume, "frames": len(item.data) // 2,
                "paysum": zlib.crc32(item.data)}.get(f.tie, 0)  # fmt: skip

    def _summed(self, files: dict[str, bytes]) -> dict[str, bytes]:
        main, at, places = bytearray(files[""]), 0, {}
        for f in self.head:
            places[f.name] = at
            at += f.size
        for name in ("tsum", "ssum", "fsum"):
            if name in places:
                main[places[name] : places[name] + 4] = self.head_sum(name, bytes(main), places).to_bytes(4, self.order)
        return {**files, "": bytes(main)}

    def head_sum(self, name: str, main: bytes, places: dict[str, int]) -> int:
        """What a sum in the head must be."""
        at = places[name]
        if name == "tsum":
            return zlib.crc32(self.table_bytes[0])
        if name == "ssum":
            size = sum(f.size for f in self.head)
            return zlib.crc32((main[:at] + bytes(4) + main[at + 4 :])[1 : size + 2])
        return zlib.adler32(main[:at] + b"    " + main[at + 4 :])

    # The second reader ------------------------------------------------------------------------------

    def read(self, files: dict[str, bytes]) -> list[tuple]:
        """(name, payload, untied values, loop) of every item, read from the files by the description alone; an
        AssertionError where a number, a constant or a sum in them is not right."""
        main = files[""]
        head, places, at = {}, {}, 0
        for f in self.head:
            places[f.name] = at
            head[f.name], at = f.decode(main, at, 0, self.order)
        assert head.get("size", len(main)) == len(main)
        at += 2
        pool = main[at : at + head.get("names_size", 0)]
        at += len(pool)
        if "table_at" in head:
            at = head["table_at"]
        out = []
        self.table_bytes = {}
        for n, table in enumerate(self.tables):
            out += self._read_table(n, table, head, pool, files, at)
            at = self._behind
        for name in ("tsum", "ssum", "fsum"):
            if name in head:
                assert head[name] == self.head_sum(name, main, places), name
        return out

    def _read_table(
        self, n: int, table: Table, head: dict, pool: bytes, files: dict[str, bytes], at: int
    ) -> list[tuple]:
        main, count = files[""], head[f"count{n}"]
        data, start, base = main, 0, at
        if table.packed == "xor":
            size = count * sum(f.size for f in table.fields)
            data, base, self._behind = (
                bytes(b ^ b"\x5a\xa5\x01"[i % 3] for i, b in enumerate(main[at : at + size])),
                0,
                at + size,
            )
        elif table.packed:
            size = head[f"packed{n}"]
            data, base, self._behind = zlib.decompress(main[at : at + size]), 0, at + size
        pos, rows = base, []
        for row in range(count):
            if self.bodies and row:
                pos += -pos % self.body_align
            values, spots, first = {}, {}, pos
            for f in table.fields:
                if f.only is not None and f.only != values.get("tag"):
                    continue
                spots[f.name] = pos
                values[f.name], pos = f.decode(data, pos, start, self.order)
            if table.record_sum:
                s = spots["recsum"] - first
                record = data[first:pos]
                assert values["recsum"] == sum(record[:s] + b"\x20\x20" + record[s + 2 :]) & 0xFFFF
            values["@"], values["@end"] = first, pos
            if self.bodies:
                pos += values["size"]
            rows.append(values)
        self.table_bytes[n] = data[base:pos]
        if not table.packed:
            self._behind = pos
        return [self._item(table, v, head, pool, files, rows, base, row) for row, v in enumerate(rows)]

    def _place(self, table: Table, v: dict, head: dict, region_at: int) -> int:
        f = next(f for f in table.fields if f.tie == "at" and f.name in v)
        base = {"": 0, "-lag": -v.get("lag", 0), "head.payload_at": head.get("payload_at"), "record.at": v["@"],
                "region.at": region_at}.get(f.base)  # fmt: skip
        return v[f.name] * f.unit + (int(f.base) if base is None else base)

    def _item(
        self, table: Table, v: dict, head: dict, pool: bytes, files: dict, rows: list[dict], region_at: int, row: int
    ) -> tuple:
        name = v["name"]
        if isinstance(name, int):
            name = pool[name : pool.index(b"\0", name)]
        file = "" if not self.files else "x.hold" if self.files == "one" else f"x.{v['volume']:02}"
        if self.bodies:
            at, size = v["@end"], v["size"]
        else:
            at = self._place(table, v, head, region_at)
            size = v["stored"] if "stored" in v else v["end"] - at if "end" in v else -1
        payload = files[file][at : at + size] if size >= 0 else None
        if payload is not None:
            assert len(payload) == size and at % self.align == 0
            if "paysum" in v:
                assert v["paysum"] == zlib.crc32(payload)
            if self.behind:
                assert files[file][at + size : at + size + self.behind] == bytes([self.guard_fill]) * self.behind
        untied = tuple(v[f.name] for f in table.fields if f.value and f.name in v and f.name != "name")
        loop = None
        for f in table.fields:
            how, first = f.tie.partition(" ")[2], at // 2
            if f.tie.startswith("loop_a"):
                a, b = v["loop_a"], v["loop_b"]
                if how == "length":
                    b += a
                scale, shift = (2 if how == "bytes" else 1), first if how == "pool" else 0
                loop = (a - shift) // scale, (b - shift) // scale
        return name.decode(), payload, untied, loop
