"""A replacement for a stream of each codec that the demo holds: fitted, rebuilt, proved, and played by the stand-in."""

import struct
from pathlib import Path

import numpy as np

from standin.chart import KEYS
from tests.server.support import ServerTest, wav_bytes
from tests.support import noise, tone
from zubret_core.base import Format
from zubret_core.base.format import frozen
from zubret_core.codec import codec_of

KINDS = """zubret: 1
id: kinds
describes: bank
byte_order: little
recognise: [{{at: 0, bytes: "4b 49 4e 44"}}]
codecs:
{codecs}regions:
  - name: head
    at: 0
    fields: [{{name: mark, type: bytes, length: 4}}, {{name: count, type: u16, means: streams.count}}]
  - name: records
    after: head
    repeat: head.count
    fields:
      - {{name: codec, type: u8, means: stream.codec, values: {{{numbers}}}}}
      - {{name: channels, type: u8, means: stream.channels}}
      - {{name: block, type: u16, means: stream.block_size}}
      - {{name: rate, type: u32, means: stream.rate}}
      - {{name: frames, type: u32, means: stream.frames}}
      - {{name: place, type: u32, means: stream.at}}
      - {{name: stored, type: u32, means: stream.stored}}
payload: {{align: 4, fill: "00"}}
end: {{align: 4, fill: "00"}}
keeps: [rate, channels, codec, block_size]
"""


class EveryCodec(ServerTest):
    STREAMS = {
        "music.bell 0251": "PCM 16",
        "music.bell 0247": "IMA ADPCM",
        "crew_de.bell 1003": "G.711 mu-law",
        "night.bell 3003": "PCM 16, channel by channel",
        "cabin.bell 4001": "two-tap ADPCM",
        "radio.bell 5001": "Vorbis packets",
        "radio.bell 5011": "Opus packets",
    }

    def test_a_swap_onto_each_is_proved_and_played(self):
        game = self.add_game()
        self.send("post", f"/games/{game['id']}/keys", {"label": "p", "text": KEYS["1.0"].hex()})
        self.send("post", f"/games/{game['id']}/keys/try")
        names = (Path(game["folder"]) / "data/hold names.txt").read_text()
        self.send("post", f"/games/{game['id']}/names", {"path": "data/hold.chart", "text": names})
        mod = f"/mods/{game['mod_id']}"
        data = wav_bytes(tone(0.5, 44100, 441, 2), 44100)
        swaps = {}
        for place, label in self.STREAMS.items():
            bank, number = place.split()
            rows = self.get(f"/games/{game['id']}/streams?q={number}")["rows"]
            stream = next(r for r in rows if r["entry"].endswith(bank))
            self.assertEqual(stream["codec"], label)
            made = self.upload(game, stream, data)
            self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
            done = self.get(f"/swaps/{made['id']}")
            self.assertEqual((done["state"], done["new"]["channels"]), ("ready", stream["channels"]), place)
            self.assertGreater(done["new"]["snr_db"] or 999, 25, place)
            swaps[made["id"]] = done
        job = self.get(f"/jobs/{self.send('post', f'{mod}/rebuild')['id']}")
        self.assertEqual((job["result"] or {}).get("state"), "proved", job["error"])
        build = self.get(f"{mod}/build")
        for number, swap in swaps.items():
            started = self.send("post", f"/builds/{build['id']}/trials", {"swap_id": number, "loops": 1})
            trial = self.get(f"/trials/{started['trial']['id']}")
            self.assertTrue(trial["played"], (swap["place"], trial["why"]))
            new = swap["new"]
            self.assertEqual(trial["frames"], new["loop"][1] if new["loop"] else new["frames"])
            heard = [
                np.frombuffer(self.get(f"/audio/{a}/pcm?start=0&frames=20000").content, "<i2")
                for a in (trial["audio"], new["audio"])
            ]
            # Two decoders of Vorbis may round the same sample up and down; all else is exact.
            most = 1 if "radio.bell › 5001" in swap["place"] else 0
            self.assertLessEqual(int(np.abs(heard[0].astype(int) - heard[1]).max()), most, swap["place"])

    def test_a_swap_onto_those_that_the_demo_has_not_is_proved(self):
        """A bank and a layout of the test's own; there is no game that would play it."""
        formats = {
            "ms": Format("ms-adpcm", 22050, 2, 4000, None, 512),
            "xa": Format("xa-adpcm", 37800, 2, 4000),
            "dvi": Format("dvi4", 16000, 1, 4000, None, 164),
            "run": Format("step-adpcm", 16000, 1, 4000, parameters=frozen({"header": "none", "nibbles": "high"})),
            "delta": Format("delta-pcm", 11025, 1, 4000),
            "alaw": Format("g711-a", 8000, 1, 4000),
            "wide": Format("pcm", 48000, 2, 4000, parameters=frozen({"sample": "s24", "order": "big"})),
            "float": Format("pcm", 48000, 1, 4000, parameters=frozen({"sample": "f32"})),
            "lanes": Format("pcm", 32000, 2, 4000, parameters=frozen({"sample": "s8", "interleave": 64})),
        }
        records, at, payloads = b"", 8 + 20 * len(formats), b""
        for n, format in enumerate(formats.values()):
            payload = codec_of(format).encode(noise(format.frames, format.channels, seed=n), format)
            facts = n, format.channels, format.block_size, format.rate, format.frames, at + len(payloads), len(payload)
            records += struct.pack("<BBHIIII", *facts)
            payloads += payload + bytes(-len(payload) % 4)
        folder = self.root / "library" / "kinds"
        folder.mkdir()
        (folder / "all.kinds").write_bytes(b"KIND" + struct.pack("<H", len(formats)) + records + bytes(2) + payloads)
        codecs = "".join(
            f"  {name}: {{codec: {f.codec}{''.join(f', {k}: {v}' for k, v in f.parameters)}}}\n"
            for name, f in formats.items()
        )
        numbers = ", ".join(f"{n}: {name}" for n, name in enumerate(formats))
        layout = self.send("post", "/layouts", {"text": KINDS.format(codecs=codecs, numbers=numbers)})
        self.send("post", f"/layouts/{layout['id']}/versions")
        game = self.send("post", "/games", {"folder": str(folder)})
        rows = self.get(f"/games/{game['id']}/streams")["rows"]
        self.assertEqual(len(rows), len(formats))
        data = wav_bytes(tone(0.6, 44100, 441, 2), 44100)
        for stream in rows:
            made = self.upload(game, stream, data)
            self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
            done = self.get(f"/swaps/{made['id']}")
            self.assertEqual((done["state"], done["new"]["rate"]), ("ready", stream["rate"]), stream["codec"])
            self.assertGreater(done["new"]["snr_db"] or 999, 25, stream["codec"])
        job = self.get(f"/jobs/{self.send('post', '/mods/{}/rebuild'.format(game['mod_id']))['id']}")
        self.assertEqual((job["result"] or {}).get("state"), "proved", job["error"])
