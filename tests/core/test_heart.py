"""The heart, on layouts and files that nobody wrote by hand: identity, swaps there and back, and a second reader."""

import os
import random

import numpy as np
from django.test import SimpleTestCase
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from tests.core.generated import Made
from tests.support import bytes_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.base import Loop, ZubretError
from zubret_core.container import DescribedArchive
from zubret_core.layout import load_layout
from zubret_core.layout.writing.records import DoesNotFit

LAYOUTS = max(500, int(os.environ.get("ZUBRET_FUZZ", "0")))


def opened(made: Made, layout, files: dict[str, bytes]):
    def beside(name: str):
        if name not in files:
            raise ZubretError("It is not there.", file=name, next="Look for it.")
        return source(files[name], name)

    kind = DescribedBank if made.bank else DescribedArchive
    return kind(layout, source(files[""], "x.bin"), beside)


def written(built, before: dict[str, bytes]) -> dict[str, bytes]:
    return {**before, "": bytes_of(built.source), **{n: bytes_of(b.source) for n, b in built.others.items()}}


class Heart(SimpleTestCase):
    @settings(max_examples=LAYOUTS, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, 1 << 40))
    @example(982_557)  # ends of 64 bits, from which sizes follow
    def test_any_layout(self, seed):
        made = Made(seed)
        with np.errstate(over="raise"):
            self.run_one(made, made.files_of())

    def run_one(self, made: Made, files: dict[str, bytes]) -> None:
        layout = load_layout(made.layout())
        first = opened(made, layout, files)
        self.agree(made, first, files)
        if not made.next:
            self.assertEqual([x[1] for x in made.read(files)], [i.data for i in made.items])
        self.assertEqual(written(first.rebuild({}, anew=True), files), files)
        rng = random.Random(made.rng.random())
        for size in ("shorter", "equal", "longer"):
            self.there_and_back(made, layout, first, files, rng, size)

    def agree(self, made: Made, document, files: dict[str, bytes]) -> None:
        """The second reader and ours find the same in a file."""
        reading = document.document
        plain = made.read(files)
        names = reading.column("id" if made.bank else "path")
        self.assertEqual(names, [x[0] for x in plain])
        payloads = [bytes_of(reading.payload(n)) for n in range(reading.count)]
        if not made.next:
            self.assertEqual(payloads, [x[1] for x in plain])
        if made.bank:
            loops = [(s.format.loop.start, s.format.loop.end) if s.format.loop else (0, 0) for s in document.streams]
            self.assertEqual(loops, [x[3] for x in plain])
        found = []
        for n in range(reading.count):
            row = []
            for instance in reading.group_of(n).instances:
                for slot in instance.shape.fields:
                    f = next(f for f in made.tables[int(instance.name[-1])].fields if f.name == slot.field.name)
                    content = instance.records.cells(slot).contents()[reading.row_of(n, instance)]
                    if f.value and f.name != "name" and content is not None:
                        row.append(f.decode(f.encode(*self.value(instance, slot, f, reading.row_of(n, instance)), made.order), 0, 0, made.order)[0])  # fmt: skip
            found.append(tuple(row))
        self.assertEqual(found, [x[2] for x in plain])

    def value(self, instance, slot, f, row):
        if slot.whole:
            return int(instance.records.numbers(slot)[row]), 0
        content = instance.records.cells(slot).contents()[row]
        if slot.field.type == "f32":
            content = int.from_bytes(content, "big" if instance.shape.big else "little")
        return (content.split(b"\0")[0] if slot.field.type == "text" else content), 0

    def there_and_back(self, made: Made, layout, first, files, rng, size: str) -> None:
        n = rng.randrange(len(made.items))
        item = made.items[n]
        length = {"shorter": max(2, len(item.data) // 2 // 2 * 2), "equal": len(item.data), "longer": len(item.data) + 2 * rng.randrange(1, 40)}[size]  # fmt: skip
        if made.files == "volumes" and length > 150:
            return
        new = rng.randbytes(length)
        try:
            built = self.swapped(first, n, new, None)
        except DoesNotFit:
            return
        there = written(built, files)
        second = opened(made, layout, there)
        self.agree(made, second, there)
        before, after = made.read(files), made.read(there)
        changed = {m for m in range(len(made.items)) if m == n or self.shared(made, m, n)}
        for m, (old, now) in enumerate(zip(before, after, strict=True)):
            if m not in changed:
                self.assertEqual(now, old, f"item {m} after item {n} became {size}")
            else:
                self.assertEqual((now[0], now[2]), (old[0], old[2]))
                if not made.next:
                    self.assertEqual(now[1], new)
        spilled = made.files == "volumes" and any(len(d) and n not in files for n, d in there.items())
        moved_volume = made.files == "volumes" and second.document.column("volume") != first.document.column("volume")
        if spilled or moved_volume:
            return
        back = self.swapped(second, n, item.data, first, built.moved_files())
        self.assertEqual(written(back, there), files, f"item {n} {size} and back")

    def shared(self, made: Made, m: int, n: int) -> bool:
        def root(i):
            return (i.table, i.shares if i.shares >= 0 else i.row)

        return root(made.items[m]) == root(made.items[n])

    def swapped(self, document, n: int, data: bytes, like, anew=()):
        if not isinstance(document, DescribedBank):
            new = source(data)
            return document.rebuild(dict.fromkeys((n, *document.sharing(n)), new), anew=anew)
        format = (like or document).streams[n].format
        if like is None:
            loop = Loop(0, 1) if format.loop else None
            format = format.with_(frames=len(data) // 2, loop=loop)
        new = NewStream(source(data), format)
        return document.rebuild(dict.fromkeys((n, *document.streams[n].shares), new), anew=anew)
