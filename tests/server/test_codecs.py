"""A replacement for a stream of each codec: fitted, rebuilt, proved, and played by the stand-in, which has its own."""

import struct
from pathlib import Path

import numpy as np

from standin.chart import KEYS
from tests.server.support import ServerTest, wav_bytes
from tests.support import copy_of_demo, noise, tone
from zubret_core.base import Format
from zubret_core.base.format import frozen
from zubret_core.codec import codec_of

CASE = """zubret: 1
id: case
describes: bank
byte_order: little
recognise: [{{at: 0, bytes: "43 41 53 45"}}]
codecs:
{codecs}regions:
  - name: head
    at: 0
    fields: [{{name: mark, type: bytes, length: 4}}, {{name: count, type: u16, means: streams.count}}]
  - name: records
    after: head
    repeat: head.count
    fields:
      - {{name: id, type: u16, means: stream.id}}
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
FORMATS = {
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
"""What the case holds, in the order of the stand-in's numbers for it."""


def case() -> bytes:
    """A bank of one stream of each format, ids from 7001 on."""
    records, at, payloads = b"", 6 + 22 * len(FORMATS), b""
    for n, format in enumerate(FORMATS.values()):
        payload = bytes(codec_of(format).encode(noise(format.frames, format.channels, seed=n), format))
        place, size = at + len(payloads), len(payload)
        facts = 7001 + n, n, format.channels, format.block_size, format.rate, format.frames, place, size
        records += struct.pack("<HBBHIIII", *facts)
        payloads += payload + bytes(-len(payload) % 4)
    return b"CASE" + struct.pack("<H", len(FORMATS)) + records + payloads


def case_layout() -> str:
    codecs = "".join(
        f"  {name}: {{codec: {f.codec}{''.join(f', {k}: {v}' for k, v in f.parameters)}}}\n"
        for name, f in FORMATS.items()
    )
    return CASE.format(codecs=codecs, numbers=", ".join(f"{n}: {name}" for n, name in enumerate(FORMATS)))


class EveryCodec(ServerTest):
    STREAMS = {
        "music.bell 0251": "PCM 16",
        "music.bell 0247": "IMA ADPCM",
        "crew_de.bell 1003": "G.711 mu-law",
        "night.bell 3003": "PCM 16, channel by channel",
        "cabin.bell 4001": "two-tap ADPCM",
        "radio.bell 5001": "Vorbis packets",
        "radio.bell 5011": "Opus packets",
        "case.bin 7001": "Microsoft ADPCM",
        "case.bin 7002": "XA ADPCM",
        "case.bin 7003": "DVI4 ADPCM",
        "case.bin 7004": "step-table ADPCM",
        "case.bin 7005": "delta PCM",
        "case.bin 7006": "G.711 A-law",
        "case.bin 7007": "PCM 24",
        "case.bin 7008": "PCM 32 float",
        "case.bin 7009": "PCM 8",
    }

    def test_a_swap_onto_each_is_proved_and_played(self):
        folder = self.root / "library" / "game"
        copy_of_demo(folder)
        (folder / "data/case.bin").write_bytes(case())
        layout = self.send("post", "/layouts", {"text": case_layout()})
        self.send("post", f"/layouts/{layout['id']}/versions")
        game = self.send("post", "/games", {"folder": str(folder)})
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
            stream = next(r for r in rows if bank in f"{r['place']} {r['entry']}")
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
