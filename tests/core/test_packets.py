"""Vorbis and Opus packets without pages: laid into Ogg files, taken out of them, and what goes wrong."""

import struct
import subprocess
import zipfile
from pathlib import Path

import numpy as np
import soundfile
from django.test import SimpleTestCase
from mutagen.ogg import OggPage

from standin.make import SOURCES
from standin.player import Ferry
from tests.core.test_containers import OPEN_SOUNDS
from tests.support import WithFolder, bytes_of, demo_game, peaking, problem_of, source, tone
from zubret_core.audio import look_through
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.base import Format, to_int16
from zubret_core.base.format import frozen
from zubret_core.codec import codec_named, codec_of, ogg, opus, vorbis
from zubret_core.codec.units import Spacing, points_of
from zubret_core.container import GameFolder
from zubret_core.layout import load_layout, shipped_texts
from zubret_core.locate import Known, Locator, banks_of, open_archive
from zubret_core.source import FileSource, SourceFile, same_bytes
from zubret_core.swap import Treatment, fit_report, prepare

THEME = Path("/usr/share/sounds/freedesktop/stereo")  # Debian's sound-theme-freedesktop: Ogg Vorbis, freely licensed
FRAMINGS = (
    {"width": 2}, {"width": 4, "order": "big"}, {"framing": "table"}, {"between": 4, "added": 6}, {"framing": "table", "added": 4},
)  # fmt: skip

MOVED = "  - name: shared\n    file: heads\n    at: 0\n"


def samples(place) -> tuple[np.ndarray, int]:
    with soundfile.SoundFile(place) as file:
        return file.read(dtype="float32", always_2d=True), file.samplerate


def granules(pages) -> dict[int, int]:
    """The granule position behind each packet on which a page ends, by the packet's number."""
    ends, number = {}, 0
    for page in pages:
        number += sum(s < 255 for s in page.segments)
        if page.granule >= 0:
            ends[number] = page.granule
    return ends


class FromOggAndBack(WithFolder):
    def test_open_vorbis_files(self):
        """Source: Xiph.Org, Vorbis I specification, 4.3.1 and A.2; libsndfile and Debian's ogginfo as other readers."""
        seen = 0
        for n, place in enumerate(sorted(THEME.glob("*.oga"))):
            original = FileSource(place)
            packets, _ = ogg.packets_of(original)
            rate, channels, short, long = vorbis.facts_of(packets[0])
            how = {**FRAMINGS[n % 5], "headers": ("setup", "stream")[n % 2], "blocks": (short, long)}
            pcm, _ = samples(place)
            format = Format("vorbis", rate, channels, len(pcm), None, 0, "", frozen(how), packets[2])
            codec = codec_of(format)
            payload = source(codec.from_ogg(original, format), place.name)
            file = codec.wrapped(payload, format)
            out = self.folder / "out.ogg"
            out.write_bytes(bytes_of(file))
            again, _ = samples(out)
            np.testing.assert_array_equal(again, pcm, err_msg=place.name)
            checked = subprocess.run(["ogginfo", out], capture_output=True, text=True)
            self.assertEqual(checked.returncode, 0, checked.stdout)
            self.assertNotIn("WARNING", checked.stdout)
            self.assertEqual(ogg.packets_of(FileSource(out))[0][3:], packets[3:])
            # Where both files end a page behind the same packet, they give the same place in time.
            theirs, ours = granules(ogg.pages_of(original)), granules(ogg.pages_of(FileSource(out)))
            self.assertEqual(max(theirs), max(ours))
            for number in theirs.keys() & ours.keys():
                self.assertEqual(theirs[number], ours[number], (place.name, number))
            for at in (0, 1, len(pcm) // 3, max(0, len(pcm) - 500)):
                # FFmpeg's decoder is another one than libsndfile's: the same to the last bits of a float.
                part = codec.decode(payload, format, at, min(400, len(pcm) - at))
                np.testing.assert_allclose(part, pcm[at : at + 400], atol=1e-6, err_msg=f"{place.name} {at}")
            seen += 1
        self.assertGreater(seen, 20)

    def test_what_follows_from_elsewhere_is_left_out_and_put_back(self):
        """The type's bit and the windows of the neighbours (Vorbis I, 4.3.1): with them left out in any way, every file of the theme is
        heard as before, from any place on, and fewer bits stand there."""
        seen = 0
        for n, place in enumerate(sorted(THEME.glob("*.oga"))):
            original = FileSource(place)
            packets, _ = ogg.packets_of(original)
            rate, channels, short, long = vorbis.facts_of(packets[0])
            left_out = (("type",), ("windows",), ("type", "windows"))[n % 3]
            how = {**FRAMINGS[n // 3 % 5], "blocks": (short, long), "trimmed": left_out}
            pcm, _ = samples(place)
            format = Format("vorbis", rate, channels, len(pcm), None, 0, "", frozen(how), packets[2])
            codec = codec_of(format)
            payload = source(codec.from_ogg(original, format), place.name)
            out = self.folder / "out.ogg"
            out.write_bytes(bytes_of(codec.wrapped(payload, format)))
            again, _ = samples(out)
            np.testing.assert_array_equal(again, pcm, err_msg=place.name)
            restored = ogg.packets_of(FileSource(out))[0][3:]
            # All bits but those of the first and the last block's outer windows, which nobody hears.
            self.assertEqual([p.rstrip(b"\0") for p in restored[1:-1]], [p.rstrip(b"\0") for p in packets[4:-1]])
            for at in (0, len(pcm) // 2, max(0, len(pcm) - 500)):
                part = codec.decode(payload, format, at, min(400, len(pcm) - at))
                np.testing.assert_allclose(part, pcm[at : at + 400], atol=1e-6, err_msg=f"{place.name} {at}")
            back = codec.from_ogg(FileSource(out), format)
            self.assertEqual(bytes(back), bytes_of(payload), place.name)
            seen += 1
        self.assertGreater(seen, 20)
        for wrong in (("tail",), ("type", "type")):
            self.assertIn("trimmed", problem_of(self, codec_named, "vorbis", frozen({"trimmed": wrong})).what)

    def test_up_to_eight_channels_stand_where_the_standards_say(self):
        """Vorbis I, 4.3.9, and RFC 7845, 5.1.1.2: front left, centre, front right, ... against WAV's order; Opus at every rate that a
        bank may count at. libsndfile gives Vorbis as it stands in the file, Debian's opusdec a WAV file."""
        names = {3: "LCR", 4: "LRlr", 5: "LCRlr", 6: "LCRlrW", 7: "LCRstcW", 8: "LCRstlrW"}
        waves = {3: "LRC", 4: "LRlr", 5: "LRClr", 6: "LRCWlr", 7: "LRCWcst", 8: "LRCWlrst"}
        for channels in range(1, 9):
            wave = waves.get(channels, "LR"[:channels])
            for codec, rate in (
                ("vorbis", 48_000),
                *(("opus", r) for r in (opus.RATES if channels < 3 else (48_000, 24_000))),
            ):
                pitches = {name: 60 if name == "W" else 300 + 140 * n for n, name in enumerate("LRCWlrstc")}
                t = np.arange(rate) / rate
                pcm = np.stack([0.2 * np.sin(2 * np.pi * pitches[name] * t) for name in wave], 1).astype(np.float32)
                how = frozen({"headers": "stream"} if codec == "vorbis" else {})
                format = Format(codec, rate, channels, rate, None, 0, "", how)
                payload = source(bytes(codec_of(format).encode(pcm, format)))
                mine = codec_of(format).decode(payload, format, 0, rate)
                middle = slice(rate // 8, rate // 2)
                with self.subTest(codec, channels=channels, rate=rate):
                    self.assertLess(np.abs(mine[middle] - pcm[middle]).max(), 0.08)
                    part = codec_of(format).decode(payload, format, rate // 3, 777)
                    np.testing.assert_allclose(part, mine[rate // 3 : rate // 3 + 777], atol=0.02)  # Opus settles
                    out = self.folder / "out.ogg"
                    out.write_bytes(bytes_of(codec_of(format).wrapped(payload, format)))
                    if codec == "vorbis":
                        theirs, order = samples(out)[0], names.get(channels, wave)
                    else:
                        wav = self.folder / "out.wav"
                        subprocess.run(["opusdec", "--quiet", "--float", out, wav], check=True, capture_output=True)
                        theirs, order = samples(wav)[0], wave
                    for n, name in enumerate(order):
                        peak = np.argmax(np.abs(np.fft.rfft(theirs[4800:28_800, n] * np.hanning(24_000)))) * 2
                        self.assertLess(abs(peak - pitches[name]), 6, (order, name))

    def test_open_voices_as_opus(self):
        """Source: RFC 7845, 4 (granule positions, pre-skip, end trimming); Debian's opus-tools as encoder and reader."""
        for n, place in enumerate(sorted(OPEN_SOUNDS.glob("*.wav"))):
            made, out = self.folder / "made.opus", self.folder / "out.opus"
            ms = ("20", "60", "2.5")[n % 3]
            subprocess.run(["opusenc", "--quiet", "--framesize", ms, place, made], check=True)
            packets, last = ogg.packets_of(FileSource(made))
            channels, skip = opus.facts_of(packets[0])
            how = {**FRAMINGS[n % 5], "headers": ("none", "stream")[n % 2], "skip": skip}
            format = Format("opus", 48000, channels, last - skip, None, 0, "", frozen(how))
            codec = codec_of(format)
            framing = codec._framing(format)
            payload = source(framing.framed(packets if how["headers"] == "stream" else packets[2:]), place.name)
            out.write_bytes(bytes_of(codec.wrapped(payload, format)))
            np.testing.assert_array_equal(samples(out)[0], samples(made)[0])
            checked = subprocess.run(["opusinfo", out], capture_output=True, text=True)
            self.assertEqual((checked.returncode, "WARNING" in checked.stdout), (0, False), checked.stdout)
            theirs, ours = granules(ogg.pages_of(FileSource(made))), granules(ogg.pages_of(FileSource(out)))
            for number in theirs.keys() & ours.keys():
                self.assertEqual(theirs[number], ours[number], (place.name, number))
            self.assertEqual(len(codec.decode(payload, format, 0, format.frames)), format.frames)

    def test_what_stands_around_a_length(self):
        """Lengths that count themselves and what follows them, and bytes of which nobody knows the meaning."""
        packets = [b"\xfc" + bytes([n]) * n for n in range(60)]
        plain = codec_named("opus", frozen({"framing": "counted"}))
        for how, made in (
            ({"width": 4, "order": "big", "between": 4}, lambda p, mark=b"info": len(p).to_bytes(4, "big") + mark + p),
            ({"between": 1, "added": 3}, lambda p, mark=b"!": (len(p) + 3).to_bytes(2, "little") + mark + p),
        ):
            format = Format("opus", 48000, 1, 960, parameters=frozen({**how, "skip": 0}))
            payload = source(b"".join(map(made, packets)))
            found = [
                w.data[s : s + n].tobytes()
                for w in codec_of(format)._framing(format).windows(payload)
                for s, n in zip(w.starts, w.sizes, strict=True)
            ]
            self.assertEqual(found, packets)
            zeros = b"".join(made(p, bytes(how["between"])) for p in packets)
            self.assertEqual(codec_of(format)._framing(format).framed(packets), zeros)
            places = points_of(Spacing(1, "packets"), {"at"}, payload, format)["at"].tolist()
            self.assertEqual(places, np.cumsum([0, *(len(made(p)) for p in packets[:-1])]).tolist())
            for cut in (payload.size - 1, 1):
                part = source(bytes_of(payload)[:cut])
                problem_of(self, lambda part=part, format=format: list(codec_of(format)._framing(format).windows(part)))
        low = Format("opus", 48000, 1, 960, parameters=frozen({"added": 9}))
        problem_of(self, lambda: list(codec_of(low)._framing(low).windows(source(plain._framing(low).framed([b"ab"])))))
        for wrong in ({"between": 65}, {"framing": "fixed", "added": 1}, {"framing": "table", "between": 1}):
            self.assertIn(list(wrong)[-1], problem_of(self, codec_named, "opus", frozen(wrong)).what)

    def test_pages_are_what_another_reader_sees(self):
        """mutagen's pages are as ours: packets, granule positions, numbers, first and last."""
        packets, last = ogg.packets_of(FileSource(THEME / "service-login.oga"))
        rate, channels, _, _ = vorbis.facts_of(packets[0])
        format = Format("vorbis", rate, channels, last, None, 0, "", frozen({"headers": "stream"}))
        codec = codec_of(format)
        file = codec.wrapped(source(codec._framing(format).framed(packets)), format)
        reader, pages = SourceFile(file), []
        while reader.tell() < file.size:
            pages.append(OggPage(reader))
        self.assertEqual(OggPage.to_packets(pages, strict=True), packets)
        self.assertEqual([p.sequence for p in pages], list(range(len(pages))))
        self.assertTrue(pages[0].first and pages[-1].last and pages[-1].position == last)
        self.assertFalse(any(p.last for p in pages[:-1]))

    def test_a_header_longer_than_a_page(self):
        long = vorbis.SETUP + bytes(range(256)) * 600
        pages = b"".join(ogg.header_pages([b"\x01vorbis first", vorbis.comments(), long]))
        self.assertEqual(ogg.packets_of(source(pages))[0], [b"\x01vorbis first", vorbis.comments(), long])


class InTheRecord(SimpleTestCase):
    LAYOUT = """
zubret: 1
id: tubes
describes: bank
recognise: [{at: 0, bytes: "54 55"}]
codecs: {air: {codec: opus, order: big}}
given: {stream.codec: air, stream.channels: 1}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16, means: streams.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: rate, type: u32, means: stream.rate}
      - {name: skip, type: u16, means: stream.skip}
      - {name: frames, type: u32, means: stream.frames}
      - {name: at, type: u32, means: stream.at}
      - {name: stored, type: u32, means: stream.stored}
"""

    def test_what_is_skipped_stands_in_the_record(self):
        """Each stream has its own number of frames before the sound; a replacement keeps it, so that it begins where the old one did."""
        rows, body, pcm = b"", b"", {}
        for rate, skip in ((48_000, 312), (24_000, 2000), (48_000, 0)):
            pcm[skip] = to_int16(tone(0.5, rate, 400) * 0.5).reshape(-1, 1)
            format = Format("opus", rate, 1, len(pcm[skip]), parameters=frozen({"order": "big", "skip": skip}))
            data = bytes(codec_of(format).encode(pcm[skip], format))
            rows += struct.pack("<IHIII", rate, skip, len(pcm[skip]), 4 + 3 * 18 + len(body), len(data))
            body += data
        bank = DescribedBank(load_layout(self.LAYOUT), source(b"TU" + struct.pack("<H", 3) + rows + body))
        for stream, wanted in zip(bank.streams, pcm.values(), strict=True):
            heard = to_int16(stream.decode(0, stream.format.frames)).astype(int)
            self.assertLess(np.abs(heard - wanted)[2000:-500].max(), 1500)
        new = to_int16(tone(0.4, 24_000, 700) * 0.5).reshape(-1, 1)
        format = bank.streams[1].format.with_(frames=len(new))
        payload = source(bytes(codec_of(format).encode(new, format)))
        again = DescribedBank(
            load_layout(self.LAYOUT), source(bytes_of(bank.rebuild({1: NewStream(payload, format)}).source))
        )
        self.assertEqual(dict(again.streams[1].format.parameters)["skip"], 2000)
        heard = to_int16(again.streams[1].decode(0, len(new))).astype(int)
        self.assertLess(np.abs(heard - new)[2000:-500].max(), 1500)
        wrong = self.LAYOUT.replace("{codec: opus, order: big}", "{codec: pcm}")
        self.assertIn("skips nothing", problem_of(self, load_layout, wrong).what)


class TheRadio(WithFolder):
    """The demo's bank of packets against the stand-in's own way to read and decode it."""

    def setUp(self):
        super().setUp()
        here = Locator("data/sea.crate", (("radio/radio.bell", 9),), "5001", 0)
        self.bank = here.bank(GameFolder(demo_game()))

    def test_sounds_as_the_stand_in_decodes_it(self):
        ferry = Ferry(demo_game())
        for stream in self.bank.streams:
            theirs, rate, _ = ferry.play(f"radio:{stream.id}", 1)
            ours = to_int16(stream.decode(0, len(theirs)))
            self.assertEqual(rate, stream.format.rate)
            self.assertLessEqual(int(np.abs(ours.astype(int) - theirs).max()), 2, stream.id)

    def test_the_shared_setup_decides_what_can_be_encoded(self):
        stream = self.bank.streams[0]
        codec = codec_of(stream.format)
        self.assertEqual(codec.obstacle(stream.format), "")
        pcm = tone(1, 24000, 500)
        new = stream.format.with_(frames=len(pcm))
        payload = source(codec.encode(pcm, new))
        heard = codec.decode(payload, new, 0, len(pcm))
        self.assertLess(float(np.abs(heard - pcm)[500:-500].max()), 0.1)
        for other in (new.with_(rate=44100), new.with_(channels=2), new.with_(setup=new.setup[:-3] + b"\x07\x07\x01")):
            self.assertTrue(codec.obstacle(other))
            self.assertIn("setup header", problem_of(self, codec.encode, tone(0.1, 24000, 500), other).what)
        self.assertTrue(same_bytes(self.bank.rebuild({}, anew=True).source, self.bank.source))

    def test_the_setup_stands_in_another_entry(self):
        """As above, but the bank's archive keeps the header packets in an entry of their own; without it that is said."""
        text = shipped_texts()["saltglass-told-bell.yaml"].replace("  - name: shared\n    after: records\n", MOVED)
        text = text.replace("describes: bank", 'describes: bank\nfiles: {heads: {name: "{stem}.heads"}}')
        known, whole = Known([load_layout(text)]), bytearray(bytes_of(self.bank.source))
        at = 48 + 32 * len(self.bank.streams)
        size = 4 + int.from_bytes(whole[at : at + 4], "little")
        heads, whole[at : at + size] = bytes(whole[at : at + size]), b"\xee" * size
        for names in (("music/radio.heads", "music/radio.bell"), ("other.heads", "music/radio.bell")):
            place = self.folder / "radio.zip"
            with zipfile.ZipFile(place, "w", zipfile.ZIP_DEFLATED) as archive:
                archive.writestr(names[0], heads)
                archive.writestr(names[1], bytes(whole))
            (found,) = banks_of(open_archive(FileSource(place), known), known)
            if names[0] == "other.heads":
                self.assertIn("radio.heads", found.error.what)
                continue
            for ours, theirs in zip(found.streams, self.bank.streams, strict=True):
                np.testing.assert_array_equal(ours.decode(500, 3000), theirs.decode(500, 3000))
            self.assertEqual(codec_of(found.streams[0].format).obstacle(found.streams[0].format), "")

    def test_a_file_with_the_shared_setup_goes_in_as_it_is(self):
        """Its packets are taken over; with a gain, or from a file of another setup, they are encoded."""
        stream = self.bank.streams[0]
        for name, gain, kept in (("en_02.ogg", 0.0, True), ("en_02.ogg", -3.0, False)):
            with FileSource(SOURCES / name) as file:
                info, how = look_through(file), Treatment(gain_db=gain)
                made = prepare(stream, file, info, how, fit_report(stream, peaking(-3.0), info, how))
                packets, last = ogg.packets_of(file)
                same = bytes_of(made.payload) == codec_of(stream.format)._framing(stream.format).framed(packets[3:])
                self.assertEqual((same, made.format.frames), (kept, last))

    def test_what_lies(self):
        """Lengths, modes, headers and numbers of frames that are not true: each is said, and where."""
        stream = self.bank.streams[0]
        codec, format, good = codec_of(stream.format), stream.format, bytes_of(stream.payload)

        def fault(data, format=format):
            return problem_of(self, codec_of(format).decode, source(data), format, 0, format.frames)

        self.assertIn("longer than", fault(good[:900]).what)
        self.assertIn("longer than", fault(b"\xff\xff" + good[2:]).what)
        self.assertIn("but the bank gives 125,247", fault(good, format.with_(frames=format.frames + 9000)).what)
        self.assertIn("longer than", fault(good, format.with_(setup=b"no header" * 9)).what)
        self.assertIn("ends too early", fault(good, format.with_(setup=format.setup[:500])).what)
        self.assertIn("has no setup", fault(good, format.with_(setup=b"")).what)
        wrong = codec_named("vorbis", frozen({"framing": "table"}))
        problem_of(self, wrong.decode, source(good), format.with_(parameters=frozen({"framing": "table"})), 0, 9)
        problem_of(self, codec_named, "vorbis", frozen({"headers": "none"}))
        problem_of(self, codec_named, "opus", frozen({"width": 3}))
        # Fewer frames than the packets hold: the last page ends where the bank says.
        fewer = format.with_(frames=50_000)
        self.assertLess(codec.wrapped(stream.payload, fewer).held - 50_000, 1024)
        self.assertEqual(len(codec.decode(stream.payload, fewer, 49_000, 1000)), 1000)

    def test_opus_of_one_length_and_other_ways(self):
        pcm = tone(0.7, 48000, 700, 2)
        for how, block in (
            ({"framing": "fixed"}, 120),
            ({"headers": "stream"}, 0),
            ({"skip": 3840}, 0),
            ({"skip": 0}, 0),
        ):
            format = Format("opus", 48000, 2, len(pcm), None, block, "", frozen(how))
            codec = codec_of(format)
            payload = source(codec.encode(pcm, format))
            if block:
                self.assertEqual(payload.size % block, 0)
            heard = codec.decode(payload, format, 0, len(pcm))
            self.assertLess(float(np.abs(heard - pcm)[2000:-2000].max()), 0.05, how)
        self.assertIn("44,100", problem_of(self, codec.decode, payload, format.with_(rate=44100), 0, 9).what)
        self.assertEqual(codec.obstacle(format.with_(channels=6)), "")
        self.assertIn("more than 8", codec.obstacle(format.with_(channels=9)))
        short = Format("opus", 48000, 2, len(pcm), None, 120, "", frozen({"framing": "fixed"}))
        self.assertIn("last packet", problem_of(self, codec_of(short).decode, source(bytes(119)), short, 0, 9).what)
