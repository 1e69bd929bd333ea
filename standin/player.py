"""The game's own loader and player: as strict as a game, and as plain as can be."""

import configparser
import re
import struct
import wave
import zipfile
import zlib
from io import BytesIO
from pathlib import Path, PurePosixPath

import numpy as np

from . import adpcm, cabin, case, chart, plain, reeds, told
from .formats import seal

SECTOR = 2048
OVERLAY = re.compile(r"^overlay=(.+?)\s*$", re.MULTILINE)
"""A line of ferry.ini that names a folder."""
BANKS = ("music", "voice", "deck", "radio", "scenes")
"""The folders of the sea in which banks lie."""


class Refused(Exception):
    """The game does not start, or does not play a cue, and says why."""


def _need(condition, why):
    if not condition:
        raise Refused(why)


def _within(root, entries):
    return lambda path: entries.get(path[len(root) :]) if path.startswith(root) else None


def cue_at(file, inside, id):
    """How the game calls a stream: by bank and id, by its place in the hold or the cabin, or as a file of the deck."""
    if file.endswith("cabin.lock"):
        return f"cabin/{inside[-1]}" + (f":{int(id)}" if id else "")
    if file.endswith(".chart"):
        return f"hold/{'/'.join(inside)}:{int(id)}"
    return f"{PurePosixPath(inside[-1]).stem}:{int(id)}" if id else f"deck/{inside[-1]}"


class Ferry:
    """A game folder. Files below `over` win over those of the game, and those of `without` are taken to be gone.

    The ferry looks for a file such as `sea/music/music.bell` in this order: in the overlay folders that ferry.ini names, the last
    line first; in the tides, the highest number first; in the patches of the deck, the last name first; in the three archives of
    the game; and, only where none of these has it, loose below data/loose, then below the game's folder. A tide needs its pass beside it. A deck that has a seal
    beside it must be the one that was sealed.
    """

    def __init__(self, folder, over=None, without=()):
        self.folders = [Path(p) for p in (over, folder) if p]
        self.over, self.without = Path(over) if over else None, set(without)
        self.log = []
        text = self._text("ferry.ini")
        ini = configparser.ConfigParser(strict=False)
        ini.read_string(text)
        settings = ini["ferry"]
        self._check_sums(settings["sums"])
        self._check_seal(settings["deck"])
        self.holders = [("the game's own folder", self._folder("")), ("loose files", self._folder("data/loose/"))]
        self.holders += self._archives(settings)
        self.holders += [(f"the overlay {name}", self._folder(f"{name}/")) for name in OVERLAY.findall(text)]
        self.cues = {}
        for line in self._find("sea/cues.txt")[0].decode().splitlines():
            cue, bank, id = line.split()
            self.cues[cue] = bank, int(id)
        self.scenes = {self.cues[name]: (name, int(seconds)) for name, seconds in ini["scenes"].items()}

    def _there(self, path):
        """Where a file of the folder is; None where there is none."""
        places = [folder / path for folder in self.folders if (folder / path).is_file()]
        return places[0] if places and path not in self.without else None

    def _place(self, path):
        place = self._there(path)
        _need(place is not None, f"{path} is missing")
        return place

    def _text(self, path):
        return self._place(path).read_text("utf-8")

    def _bytes(self, path):
        return self._place(path).read_bytes()

    def _named(self, folder, pattern):
        """The files of a folder that are called so, by name."""
        names = {p.name for f in self.folders for p in (f / folder).glob(pattern)}
        return [path for path in (f"{folder}/{name}" for name in sorted(names)) if self._there(path)]

    def _check_sums(self, path):
        """Every file of the list that is there has the size and CRC-32 that it gives."""
        lines = self._text(path).split("\n")
        _need(lines[0] == "SUMS 1" and lines[-1] == "", f"{path}: this is no list of sums")
        right = 0
        for line in lines[1:-1]:
            crc, size, name = line.split(" ", 2)
            if self._there(f"{path.rpartition('/')[0]}/{name}") is None:
                continue
            data = self._bytes(f"{path.rpartition('/')[0]}/{name}")
            _need(len(data) == int(size), f"{name}: {len(data)} bytes, but {path} says {int(size)}")
            _need(zlib.crc32(data) == int(crc, 16), f"{name}: the sum is not the one in {path}")
            right += 1
        self.log.append(f"{right} files as {path} lists them")

    def _check_seal(self, deck):
        """A seal, where there is one, is that of the deck."""
        if self._there(f"{deck}.seal"):
            _need(self._there(deck), f"{deck}.seal seals nothing: {deck} is gone")
            _need(self._text(f"{deck}.seal") == seal(self._bytes(deck)), f"{deck} is not the deck that was sealed")
            self.log.append(f"the seal of {deck} is whole")

    # Who holds a file ---------------------------------------------------------------------------------

    def _archives(self, settings):
        """The archives from the weakest to the strongest: (name, path -> bytes or None)."""
        crate, hold, deck = settings["crate"], settings["hold"], settings["deck"]
        out = []
        if self._there(crate):
            order = self._text("data/order.txt").split("\n")[:-1]
            out.append((crate, _within("sea/", self._crate(crate, order))))
        if self._there(hold):
            entries = self._hold(hold, settings["build"])
            out.append((hold, lambda path: entries.get(chart.name_hash(path[5:])) if path[:5] == "hold/" else None))
        for pack in [p for p in (deck, *self._named(deck.rpartition("/")[0], "patch_*.zip")) if self._there(p)]:
            out.append((pack, _within("deck/", self._pack(pack))))
        tides = self._named(crate.rpartition("/")[0], "tide_*.crate")
        for tide in sorted(tides, key=lambda path: int(re.search(r"tide_(\d+)\.crate$", path)[1])):
            _need(self._there(f"{tide[:-6]}.pass"), f"{tide} has no pass")
            _need(self._text(f"{tide[:-6]}.pass") == "FERRY\n", f"{tide[:-6]}.pass is no pass of the ferry")
            out.append((tide, _within("sea/", self._crate(tide))))
        return out

    def _folder(self, below):
        """What holds the files of a folder as they lie there."""

        def held(path):
            place = self._there(below + path)
            return place.read_bytes() if place else None

        return held

    def _held(self, path):
        """(bytes, name of who holds it) of the strongest that has a file; None where nobody has."""
        for name, held in reversed(self.holders):
            data = held(path)
            if data is not None:
                return data, name
        return None

    def _find(self, path):
        """The same; refused where nobody has it."""
        found = self._held(path)
        _need(found is not None, f"nothing holds {path}")
        self.log.append(f"{path} comes from {found[1]}")
        return found

    def _hold(self, path, build):
        """The hold's entries by the hash of their path."""
        stem = path.rpartition(".")[0]
        entries = chart.read(self._bytes(path), build, lambda n: self._bytes(f"{stem}.cargo{n:02}"), _need)
        self.log.append(f"{path}: {len(entries)} entries, all sums right")
        return entries

    def _pack(self, path):
        """All files of a ZIP, unpacked."""
        try:
            with zipfile.ZipFile(self._place(path)) as pack:
                _need(pack.testzip() is None, f"{path}: a sum is wrong")
                return {name: pack.read(name) for name in pack.namelist()}
        except zipfile.BadZipFile as e:
            raise Refused(f"{path}: {e}") from e

    def _crate(self, path, order=None):
        """All entries, unpacked: path -> bytes."""
        place = self._place(path)
        data = place.read_bytes()
        whose = "the files laid over the game" if place.is_relative_to(self.over or "/-") else "the game's own folder"
        self.log.append(f"opened {path} ({len(data)} bytes) from {whose}")
        entries = self._crate_entries(path, data, order)
        self.log.append(f"{len(entries)} entries, all sums right")
        return entries

    def _crate_entries(self, path, data, order=None):
        _need(len(data) >= SECTOR and data[:4] == b"SFCR", f"{path}: this is not a crate")
        version, _, count, table_sector, table_sum, sectors, _ = struct.unpack_from("<HHIIII24s", data, 4)
        _need(version == 3, f"{path}: version {version} is not for this game")
        _need(len(data) == sectors * SECTOR, f"{path}: {len(data)} bytes, but the head says {sectors * SECTOR}")
        _need(order is None or count == len(order), f"{path}: {count} entries, but the game has {len(order or [])}")
        table = data[table_sector * SECTOR : table_sector * SECTOR + count * 76]
        _need(len(table) == count * 76, f"{path}: the table leaves the file")
        _need(zlib.crc32(table) == table_sum, f"{path}: the table's sum is wrong")
        entries, spans = {}, {}
        for n in range(count):
            name, sector, stored, size, word, _, crc = struct.unpack_from("<56sIIIHHI", table, n * 76)
            name = name.rstrip(b"\0").decode()
            wanted = order[n] if order else name
            _need(name == wanted, f"{path}: entry {n} is {name}, but {wanted} was expected: the order has changed")
            at = sector * SECTOR
            _need(at >= SECTOR and at + stored <= table_sector * SECTOR, f"{name}: lies outside the payload area")
            spans[at, stored] = name
            packed = data[at : at + stored]
            try:
                plain = zlib.decompress(packed) if word & 15 else packed
            except zlib.error as e:
                raise Refused(f"{name}: can't be unpacked ({e})") from e
            _need(len(plain) == size, f"{name}: {len(plain)} bytes, but the table says {size}")
            _need(zlib.crc32(plain) == crc, f"{name}: the CRC is wrong")
            entries[name] = plain
        end = 0
        for (at, stored), name in sorted(spans.items()):
            _need(at >= end, f"{name}: overlaps the entry before it")
            end = at + stored
        return entries

    def _bank(self, name):
        """The streams of a bank of the sea."""
        path = next((p for p in (f"sea/{folder}/{name}.bell" for folder in BANKS) if self._held(p)), None)
        _need(path is not None, f"there is no bank {name}")
        return self._streams(path, name, self._find(path)[0])

    def _hold_bank(self, path):
        """The streams of a bank in the hold, or in a crate in the hold: `cabin/cabin.crate/cabin.bell`."""
        outer, inside, inner = path.partition(".crate/")
        data = self._find("hold/" + (outer + ".crate" if inside else path))[0]
        if inside:
            entries = self._crate_entries(f"{outer}.crate", data)
            _need(inner in entries, f"{outer}.crate has no {inner}")
            data = entries[inner]
        tow = self._held("hold/" + path.rpartition(".")[0] + ".tow")
        return self._streams(path, Path(path).stem, data, tow and tow[0])

    def _streams(self, path, name, data, tow=None):
        """id -> (codec, rate, channels, block, frames, loop, payload, setup header); `tow` holds the payloads of a streamed bank."""
        _need(len(data) >= 48 and data[:4] in (b"BELL", b"BELT", b"BELV"), f"{path}: this is not a bank")
        towed = data[:4] == b"BELT"
        _need(not towed or tow is not None, f"{path}: its .tow file is missing")
        version, _, _, stored_name, count, base, size, table_sum = struct.unpack_from("<BBH24sIIII", data, 4)
        _need(version == 2, f"{path}: version {version} is not for this game")
        found = stored_name.rstrip(b"\0").decode("latin-1")
        _need(found == name, f"{path}: the bank calls itself {found}, but {name} was asked for")
        _need(size == len(data), f"{path}: {len(data)} bytes, but the head says {size}")
        _need(base % 32 == 0, f"{path}: the payload area is misaligned")
        table = data[48 : 48 + 32 * count]
        _need(len(table) == 32 * count <= base - 48, f"{path}: the records leave their area")
        _need(zlib.crc32(table) == table_sum, f"{path}: the records' sum is wrong")
        setup = b""
        if data[:4] == b"BELV":
            at = 52 + 32 * count
            setup = data[at : at + int.from_bytes(data[at - 4 : at], "little")]
            _need(setup[:7] == b"\x05vorbis" and at + len(setup) <= base, f"{path}: the setup header is broken")
        streams = {}
        for n in range(count):
            id, place, stored, form, frames, start, end, _, _ = struct.unpack_from("<7I2H", table, 32 * n)
            codec, channels, looped = form & 7, (form >> 3 & 7) + 1, form >> 6 & 1
            rate, block = (form >> 8 & 0xFFF) * 50, (form >> 20) * 4
            where = f"{path}: stream {id}"
            _need(codec in range(7 if setup else 5), f"{where}: codec {codec} is unknown")
            body, start_at = (tow, place * 32) if towed else (data, base + place * 32)
            _need(start_at + stored <= len(body), f"{where}: the payload leaves the bank")
            loop = (start, end) if looped else None
            if loop:
                _need(start < end <= frames, f"{where}: the loop {start} to {end} is outside its {frames} frames")
            if codec == 1:
                per_block = adpcm.block_frames(block, channels)
                _need(per_block > 1, f"{where}: blocks of {block} bytes are too small")
                _need(-(-frames // per_block) * block == stored, f"{where}: {stored} bytes do not hold {frames} frames")
                if loop:
                    _need(start % per_block == 0, f"{where}: the loop starts {start % per_block} frames past a block")
            elif codec == 4:
                most = -(-frames // plain.TIDE_FRAMES) * plain.TIDE * channels
                _need(most == stored, f"{where}: {stored} bytes do not hold {frames} frames")
                if loop:
                    _need(start % plain.TIDE_FRAMES == 0, f"{where}: the loop starts inside a tide")
            elif codec < 4:
                width = 1 if codec == 2 else 2
                _need(frames * channels * width == stored, f"{where}: {stored} bytes do not hold {frames} frames")
            payload = body[start_at : start_at + stored]
            streams[id] = codec, rate, channels, block, frames, loop, payload, setup
        return streams

    def play(self, cue, loops=2):
        """(int16 (frames, channels), rate, log): the head, then the loop `loops` times; once where there is none."""
        if cue.startswith("deck/"):
            return self._play_deck(cue[5:], loops)
        if cue.startswith("cabin/"):
            return self._play_cabin(cue[6:], loops)
        bank, id = self._cue(cue)
        if bank == "drift":
            return self._play_drift(id)
        if bank == "case":
            return self._play_case(id)
        streams = self._hold_bank(bank[5:]) if bank.startswith("hold/") else self._bank(bank)
        _need(id in streams, f"bank {bank} has no stream {id}")
        codec, rate, channels, block, frames, loop, payload, setup = streams[id]
        try:
            if codec == 1:
                pcm = adpcm.decode(payload, channels, block, frames)
            elif codec == 4:
                pcm = plain.tide(payload, channels, frames)
            elif codec == 5:
                pcm = told.vorbis(payload, setup, rate, channels, frames)
            elif codec == 6:
                pcm = told.opus(payload, channels, frames)
            elif codec:
                pcm = (plain.voice if codec == 2 else plain.lanes)(payload, channels)
            else:
                pcm = np.frombuffer(payload, "<i2").reshape(-1, channels)
        except (ValueError, struct.error) as e:
            raise Refused(f"bank {bank}, stream {id}: {e}") from e
        _need(len(pcm) == frames, f"bank {bank}, stream {id}: {len(pcm)} frames came out of {frames}")
        self.log.append(f"cue {cue}: bank {bank}, stream {id}, {frames} frames, {channels} channels, {rate} Hz")
        if (bank, id) in self.scenes:
            self._in_scene(*self.scenes[bank, id], len(pcm) / rate)
        return self._looped(pcm, loop, loops), rate, self.log

    def _in_scene(self, name, longest, seconds):
        """Whether a sound that is played once is there for as long as its scene may last."""
        silent = f"{longest - seconds:.1f} s of silence behind it" if seconds < longest else "it outlasts the scene"
        self.log.append(f"scene {name} lasts {longest} s at most, its music {seconds:.1f} s: {silent}")

    def _play_drift(self, id):
        """A sound of the bank in data/drift.bin."""
        data = self._find("data/drift.bin")[0]
        mark, version, count, at, size, step = struct.unpack_from("<4sHHIII", data)
        _need((mark, version, size, step) == (b"DRFT", 1, len(data), 20), "data/drift.bin: this is no drift bank")
        for n in range(count):
            number, _, place, stored, frames, rate = struct.unpack_from("<HHIIII", data, at + 20 * n)
            if number == id:
                _need(place % 16 == 0 and place + stored <= size, f"drift {id}: the payload leaves the bank")
                _need((frames + 1) // 2 == stored, f"drift {id}: {stored} bytes do not hold {frames} frames")
                self.log.append(f"drift {id}: {frames} frames, {rate} Hz")
                return plain.drift(data[place : place + stored], frames), rate, self.log
        raise Refused(f"there is no drift {id}")

    def _play_cabin(self, what, loops):
        """A sound of data/cabin.lock: an oar or a reed by bank and id, or a shout by its path."""
        path, colon, id = what.partition(":")
        try:
            entries = cabin.opened(self._find("data/cabin.lock")[0])
            _need(path in entries, f"the cabin has no {path}")
            if colon and path.startswith("reeds/"):
                (pcm, rate), loop = reeds.blow(entries[path], int(id)), None
            elif colon:
                pcm, rate, loop = cabin.row(entries[path], int(id))
            else:
                (pcm, rate), loop = cabin.shout(entries[path]), None
        except (ValueError, IndexError, struct.error) as e:
            raise Refused(f"cabin, {what}: {e}") from e
        self.log.append(f"cabin {what}: {len(pcm)} frames, {rate} Hz")
        return self._looped(pcm, loop, loops), rate, self.log

    def _play_case(self, id):
        """A sound of data/case.bin."""
        try:
            kind, channels, block, rate, frames, payload = case.find(self._find("data/case.bin")[0], id)
            pcm = case.decode(kind, payload, channels, block, frames)
        except (ValueError, IndexError, struct.error) as e:
            raise Refused(f"case, stream {id}: {e}") from e
        _need(len(pcm) == frames, f"case, stream {id}: {len(pcm)} frames came out of {frames}")
        self.log.append(f"case {id}: kind {kind}, {frames} frames, {channels} channels, {rate} Hz")
        return pcm, rate, self.log

    def _cue(self, cue):
        """Bank and stream id of a cue; `bank:id` names them directly."""
        bank, colon, id = cue.partition(":")
        if colon and id.isdigit():
            return bank, int(id)
        _need(cue in self.cues, f"there is no cue {cue}")
        return self.cues[cue]

    def _looped(self, pcm, loop, loops):
        if not loop:
            self.log.append("played once")
            return pcm
        start, end = loop
        self.log.append(f"looped {start} to {end}, {loops} times")
        return np.concatenate([pcm[:start]] + [pcm[start:end]] * loops)

    def _play_deck(self, path, loops):
        data = self._find(f"deck/{path}")[0]
        _need(path.endswith(".wav"), f"{path}: the deck plays WAV files only")
        try:
            with wave.open(BytesIO(data)) as file:
                _need(file.getsampwidth() == 2, f"{path}: not 16-bit")
                rate, channels = file.getframerate(), file.getnchannels()
                pcm = np.frombuffer(file.readframes(file.getnframes()), "<i2").reshape(-1, channels)
        except (wave.Error, EOFError) as e:
            raise Refused(f"{path}: {e}") from e
        at = data.find(b"smpl")
        loop = None
        if at > 0:
            start, last = struct.unpack_from("<II", data, at + 8 + 44)
            loop = start, last + 1
            _need(start < last + 1 <= len(pcm), f"{path}: the loop is outside the sound")
        self.log.append(f"deck {path}: {len(pcm)} frames, {channels} channels, {rate} Hz")
        return self._looped(pcm, loop, loops), rate, self.log
