"""Fit reports, treatments, encoding, rebuild and proof: the core's own whole path."""

import json
import subprocess
import sys
import zlib

import numpy as np
from django.test import SimpleTestCase

from standin.player import Ferry, Refused
from tests.support import (
    ROOT,
    WithFolder,
    bytes_of,
    demo_game,
    edited,
    files_end_at,
    peaking,
    problem_of,
    small_bell,
    source,
    tone,
    wav_file,
)
from zubret_core.audio import AudioInfo, look_through
from zubret_core.bank import DescribedBank
from zubret_core.base import Cancelled, Format, Loop, ZubretError
from zubret_core.container import GameFolder
from zubret_core.layout import layout_named
from zubret_core.locate import Locator
from zubret_core.rebuild import StreamSwap, plan_rebuild, prove_in_new_process, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.source import FileSource
from zubret_core.swap import Treatment, fit_report, level_of, prepare, target_of

OPEN_WATER = Locator("data/sea.crate", (("music/music.bell", 2),), "0247", 1)
ADPCM = Format("ima-adpcm", 48000, 2, 100_000, Loop(2041, 90_000), 2048)


def facts(**changed) -> AudioInfo:
    """Of a WAV file."""
    usual = {"rate": 48000, "channels": 2, "frames": 100, "loop": None, "peak_db": -20.0, "variant": "WAV/PCM_16"}
    return AudioInfo(**{**usual, **changed})


def fitted(stream, info: AudioInfo, how: Treatment) -> tuple[Treatment, object]:
    """The treatment after *fit all*, and its report."""
    level = level_of([stream.decode(0, stream.format.frames)], stream.format.rate, stream.format.channels)
    for _ in range(3):
        report = fit_report(stream, level, info, how)
        how = Treatment.from_dict({**how.as_dict(), **report.fix_all()})
    return how, fit_report(stream, level, info, how)


class Targets(SimpleTestCase):
    def test_the_loop_start_gets_onto_a_block_edge_and_the_loop_keeps_its_length(self):
        for start in (0, 1, 2040, 2041, 5000):
            for align in ("pad", "trim"):
                how = Treatment(loop="points", loop_start=start, loop_end=70_000, align=align)
                target = target_of(ADPCM, facts(frames=80_000), how)
                loop = target.format.loop
                self.assertEqual(loop.start % 2041, 0)
                self.assertEqual(loop.length, 70_000 - start)
                self.assertEqual(target.format.frames, 80_000 + target.pad - target.cut)
                self.assertTrue(target.pad == 0 or align == "pad")
                self.assertTrue(target.cut == 0 or align == "trim")
                self.assertEqual([target.in_file(n, 48000) for n in (loop.start, loop.end)], [start, 70_000])
        how = Treatment(trim_start=1000, loop="points", loop_start=9000, loop_end=40_000, resample=True, align="pad")
        target = target_of(ADPCM, facts(rate=32000, frames=60_000), how)
        loop = target.format.loop
        self.assertEqual([target.in_file(n, 32000) for n in (0, loop.start, loop.end)], [1000, 9000, 40_000])
        self.assertEqual(target.in_file(10**9, 32000), 60_000)
        left = target_of(ADPCM, facts(frames=80_000), Treatment(loop="points", loop_start=5, loop_end=9))
        self.assertEqual(left.off_grid, 5)

    def test_impossible_parts_and_loops_say_which(self):
        for how, field in (
            (Treatment(trim_start=50, trim_end=50), "trim"),
            (Treatment(trim_end=200), "trim"),
            (Treatment(loop="points", loop_start=60, loop_end=60), "loop"),
            (Treatment(loop="points", loop_start=10, loop_end=101), "loop"),
            (Treatment(loop="points", loop_start=10, loop_end=90, trim_start=20), "loop"),
        ):
            error = problem_of(self, target_of, ADPCM, facts(frames=100), how)
            self.assertIn(field, error.where)
        for bad in ({"loop": "twice"}, {"gain_db": 99}, {"align": "stretch"}, {"speed": 2}):
            problem_of(self, Treatment.from_dict, bad)


class Reports(SimpleTestCase):
    def setUp(self):
        self.stream = DescribedBank(layout_named("saltglass-bell"), source(small_bell())).streams[0]

    def report(self, how=None, **info):
        info = facts(**{"frames": 300, "loop": Loop(57, 300), **info})
        return fit_report(self.stream, peaking(-12.0), info, how or Treatment())

    def verdicts(self, report) -> dict[str, str]:
        return {p.key: p.verdict for p in report.points}

    def test_what_fits_needs_nothing(self):
        report = self.report()
        self.assertEqual(report.verdict, "fits")
        self.assertEqual(set(self.verdicts(report).values()), {"fits"})
        expected = {"rate", "channels", "codec", "block_size", "length", "loop", "align", "peak", "size"}
        self.assertEqual(set(self.verdicts(report)), expected)

    def test_each_difference_has_its_point_and_its_fix(self):
        for key, info, fix in (
            ("rate", {"rate": 44100}, {"resample": True}),
            ("channels", {"channels": 1}, {"mix": True}),
            ("loop", {"loop": None}, {"loop": "whole"}),
            ("align", {"loop": Loop(58, 300)}, {"align": "pad"}),
            ("peak", {"peak_db": -3.0}, {"gain_db": -9.0}),
        ):
            report = self.report(**info)
            point = next(p for p in report.points if p.key == key)
            self.assertEqual((point.verdict, point.fix), ("can be fitted", fix), key)
            self.assertTrue(point.action, key)
            done = self.report(Treatment.from_dict({**Treatment().as_dict(), **fix}), **info)
            self.assertEqual(next(p for p in done.points if p.key == key).verdict, "fits", key)

    def test_seven_channels_block(self):
        report = self.report(channels=7)
        self.assertEqual((report.verdict, self.verdicts(report)["channels"]), ("blocks", "blocks"))
        self.assertIn("no mix from 7 to 2", next(p for p in report.points if p.key == "channels").action)

    def test_a_loop_that_the_game_does_not_expect_is_left_out(self):
        self.stream = DescribedBank(layout_named("saltglass-bell"), source(small_bell())).streams[1]
        report = self.report(rate=24000, channels=1)
        self.assertEqual(report.fix_all(), {"loop": "none"})
        self.assertEqual(report.changes_too, ["2"])

    def test_the_stored_size_is_told_before_encoding(self):
        size = next(p for p in self.report(frames=100_000, loop=Loop(57, 300)).points if p.key == "size")
        stored = -(-100_000 // 57) * 64
        kilobits = stored * 8 * 48_000 / 100_000 / 1000
        self.assertEqual(size.new, f"{stored:,} B · {kilobits:.0f} kbit/s".replace(",", "\u202f"))
        self.assertIn("will be moved", size.action)


class Rebuilding(WithFolder):
    """From a file of test tones to what the stand-in game plays; the two share no code."""

    def setUp(self):
        super().setUp()
        self.game = GameFolder(demo_game())
        self.stream = OPEN_WATER.stream(self.game)
        place = wav_file(self.folder / "tone.wav", tone(9, 44100, 441, 2), 44100, "PCM_24")
        self.file = FileSource(place)
        self.addCleanup(self.file.close)
        self.info = look_through(self.file)

    def prepared(self, how: Treatment, locator: Locator = OPEN_WATER, stream=None, name: str = "x"):
        stream = stream or self.stream
        how, report = fitted(stream, self.info, how)
        result = prepare(stream, self.file, self.info, how, report)
        payload = self.folder / f"{name}.payload"
        payload.write_bytes(bytes_of(result.payload))
        return result, StreamSwap(locator, payload, result.format, result.snr_db)

    def test_from_tone_to_trial_run(self):
        how = Treatment(loop="points", loop_start=44_100, loop_end=8 * 44_100)
        result, swap = self.prepared(how)
        self.assertEqual((result.format.rate, result.format.loop.length), (48000, 7 * 48_000))
        plans = plan_rebuild(self.game, [swap])
        out = self.folder / "out"
        write_plan(plans, out)
        points = prove_in_new_process(expectation(self.game, out, plans))
        self.assertEqual([p for p in points if not p.ok], [])
        self.assertGreater(len(points), 12)
        ferry = Ferry(self.game.folder, out)
        pcm, rate, _ = ferry.play("open_water", loops=3)
        loop = result.format.loop
        heard = result.heard(0, result.format.frames)
        meant = np.concatenate([heard[: loop.start]] + [heard[loop.start : loop.end]] * 3)
        self.assertEqual(rate, 48000)
        np.testing.assert_array_equal(pcm, meant)
        untouched, _, _ = Ferry(self.game.folder).play("storm", loops=1)
        np.testing.assert_array_equal(Ferry(self.game.folder, out).play("storm", loops=1)[0], untouched)

    def test_a_zip_member_is_replaced_with_its_loop(self):
        locator = Locator("data/deck.zip", (("ambience/water.wav", 1),), "", 0)
        stream = locator.stream(self.game)
        result, swap = self.prepared(Treatment(loop="whole"), locator, stream)
        plans = plan_rebuild(self.game, [swap])
        out = self.folder / "out"
        write_plan(plans, out)
        points = prove_in_new_process(expectation(self.game, out, plans))
        self.assertEqual([p for p in points if not p.ok], [])
        pcm, rate, _ = Ferry(self.game.folder, out, ["data/deck.zip.seal"]).play("deck/ambience/water.wav", loops=2)
        self.assertEqual((rate, len(pcm)), (44100, 2 * 9 * 44_100))
        np.testing.assert_array_equal(pcm, np.concatenate([result.heard(0, 9 * 44_100)] * 2))

    def test_a_swap_in_a_packed_bank_and_laid_out_afresh(self):
        locator = Locator("data/sea.crate", (("voice/crew_fr.bell", 4),), "1003", 2)
        stream = locator.stream(self.game)
        _, swap = self.prepared(Treatment(trim_end=44_100), locator, stream)
        sizes = {}
        for tight in (False, True):
            plans = plan_rebuild(self.game, [swap], tight=tight)
            out = self.folder / f"out{tight}"
            write_plan(plans, out)
            points = prove_in_new_process(expectation(self.game, out, plans))
            self.assertEqual([p for p in points if not p.ok], [])
            self.assertEqual(len(Ferry(self.game.folder, out).play("fog_call_fr")[0]), 24_000)
            sizes[tight] = plans[0].size
        self.assertLess(sizes[True], sizes[False])

    def test_two_swaps_in_one_bank_are_built_together(self):
        _, first = self.prepared(Treatment(loop="whole"))
        other = Locator("data/sea.crate", (("music/music.bell", 2),), "0260", 3)
        stream = other.stream(self.game)
        result, second = self.prepared(Treatment(loop="whole"), other, stream, "y")
        plans = plan_rebuild(self.game, [first, second])
        self.assertEqual([(p.path, len(p.swaps)) for p in plans], [("data/sea.crate", 2), ("data/sums.txt", 0)])
        write_plan(plans, self.folder / "out")
        ferry = Ferry(self.game.folder, self.folder / "out")
        self.assertEqual(len(ferry.play("storm", loops=1)[0]), result.format.frames)

    def test_the_proof_finds_what_is_wrong(self):
        _, swap = self.prepared(Treatment(loop="whole"))
        plans = plan_rebuild(self.game, [swap])
        out = self.folder / "out"
        write_plan(plans, out)
        place = out / "data/sea.crate"
        good = place.read_bytes()
        expected = expectation(self.game, out, plans)
        segments = {s.item: s for s in plans[0].built.segments if s.item >= 0}
        spoils = [
            ("every byte", edited(good, segments[1].at + 9, "<B", good[segments[1].at + 9] ^ 1)),
            ("every byte", edited(good, 6, "<H", 1234)),  # an untied field of the header
            ("every byte", edited(good, segments[2].at + 1_000_000, "<B", good[segments[2].at + 1_000_000] ^ 1)),
            ("file size", good + bytes(2048)),
        ]
        for label, data in spoils:
            place.write_bytes(data)
            self.assertIn(label, [p.label for p in prove_in_new_process(expected) if not p.ok])

    def test_nothing_is_left_of_a_rebuild_that_is_cancelled(self):
        _, swap = self.prepared(Treatment(loop="whole"))
        plans = plan_rebuild(self.game, [swap])

        def cancel(done, total, note):
            if done > total // 2:
                raise Cancelled

        with self.assertRaises(Cancelled):
            write_plan(plans, self.folder / "out", cancel)
        self.assertEqual([p for p in (self.folder / "out").rglob("*") if p.is_file()], [])

    def test_a_disk_that_fills_up(self):
        _, swap = self.prepared(Treatment(loop="whole"))
        before = (self.game.folder / "data/sea.crate").read_bytes()
        out = self.folder / "out"
        plans = plan_rebuild(self.game, [swap])
        with files_end_at(1 << 20):
            error = problem_of(self, write_plan, plans, out)
        self.assertIn("disk is full", error.what)
        self.assertIn("Nothing was changed", error.next)
        self.assertEqual([p for p in out.rglob("*") if p.is_file()], [])
        self.assertEqual((self.game.folder / "data/sea.crate").read_bytes(), before)

    def test_preparing_waits_for_every_required_point(self):
        report = fit_report(self.stream, peaking(-8.0), self.info, Treatment())
        with self.assertRaises(ZubretError) as caught:
            prepare(self.stream, self.file, self.info, Treatment(), report)
        self.assertIn("sample rate", caught.exception.what)


class StandIn(WithFolder):
    """The stand-in game is strict: every fault that a rebuild could make is refused by name."""

    def refused(self, data: bytes, cue: str = "storm") -> str:
        place = self.folder / "data" / "sea.crate"
        place.parent.mkdir(exist_ok=True)
        place.write_bytes(data)
        lines = (demo_game() / "data" / "sums.txt").read_text().splitlines()
        fresh = f"{zlib.crc32(data):08x} {len(data):010} sea.crate"
        lines = [fresh if line.endswith(" sea.crate") else line for line in lines]
        (self.folder / "data" / "sums.txt").write_text("\n".join(lines) + "\n")
        try:
            Ferry(demo_game(), self.folder).play(cue, loops=1)
        except Refused as e:
            return str(e)
        return ""

    def test_it_refuses_what_a_game_would(self):
        from zubret_core.bank import NewStream
        from zubret_core.container import DescribedArchive

        data = (demo_game() / "data/sea.crate").read_bytes()
        archive = DescribedArchive(layout_named("saltglass-crate"), source(data))
        music = archive.entries[2]

        def with_bank(change) -> bytes:
            bank = archive.open(2)
            raw = bytearray(bank.read(0, bank.size))
            built = archive.rebuild({2: source(bytes(change(raw)))}).source
            return built.read(0, built.size)

        def with_stream(payload: bytes, format: Format) -> bytes:
            bank = DescribedBank(layout_named("saltglass-bell"), archive.open(2))
            built = archive.rebuild({2: bank.rebuild({3: NewStream(source(payload), format)}).source}).source
            return built.read(0, built.size)

        def renamed(raw: bytearray) -> bytearray:
            raw[8:13] = b"other"
            return raw

        storm = DescribedBank(layout_named("saltglass-bell"), archive.open(2)).streams[3].format
        block = (1024 // 2 - 4) * 2 + 1
        short = bytes(1024 * 4)
        self.assertEqual(self.refused(data), "")
        self.assertIn("the CRC is wrong", self.refused(edited(data, music.at + 5000, "<B", data[music.at + 5000] ^ 1)))
        self.assertIn("calls itself other", self.refused(with_bank(renamed)))
        self.assertIn("entries, but the game has", self.refused(edited(data, 8, "<I", 8)))
        self.assertIn("bytes, but the head says", self.refused(data + bytes(2048)))
        off = storm.with_(frames=block * 4, loop=Loop(block + 1, block * 3))
        self.assertIn("frames past a block", self.refused(with_stream(short, off)))
        outside = with_stream(short, storm.with_(frames=block * 4, loop=Loop(0, block * 4 + 1)))
        self.assertIn("is outside its", self.refused(outside))

    def test_making_it_twice_gives_the_same_bytes(self):
        from standin.formats import bell
        from standin.make import _deck_bank, _voice_bank

        self.assertEqual(_deck_bank("1.0"), _deck_bank("1.0"))
        self.assertEqual(_voice_bank("de"), _voice_bank("de"))
        self.assertEqual(bell("x", []), bell("x", []))

    def test_it_answers_as_a_program(self):
        run = subprocess.run(
            [sys.executable, "-m", "standin", "play", demo_game(), "gull", "--wav", self.folder / "g.wav"],
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=True,
        )
        answer = json.loads(run.stdout)
        self.assertEqual((answer["played"], answer["rate"], answer["channels"]), (True, 32000, 1))
        self.assertTrue((self.folder / "g.wav").exists())
        no = subprocess.run(
            [sys.executable, "-m", "standin", "play", demo_game(), "kraken"], cwd=ROOT, capture_output=True, text=True
        )
        self.assertEqual(json.loads(no.stdout)["why"], "there is no cue kraken")

    def test_the_music_loops_without_a_step(self):
        """The largest step between two frames across each seam is no larger than elsewhere in the piece."""
        ferry = Ferry(demo_game())
        for cue in ("fog", "storm"):
            pcm, _, _ = ferry.play(cue, loops=1)
            twice, _, _ = ferry.play(cue, loops=2)
            seam = len(pcm)
            steps = np.abs(np.diff(twice.astype(int), axis=0)).max(axis=1)
            self.assertLessEqual(steps[seam - 1], np.percentile(steps, 99.9), cue)
            self.assertGreater(np.abs(twice[seam - 4000 : seam + 4000].astype(int)).max(), 200, cue)
