"""The game's own loader and player: as strict as a game, and as plain as can be."""

import configparser
import struct
import wave
import zipfile
import zlib
from io import BytesIO
from pathlib import Path, PurePosixPath

import numpy as np

from . import adpcm, case, chart, plain, told

SECTOR = 2048


class Refused(Exception):
    """The game does not start, or does not play a cue, and says why."""


def _need(condition, why):
    if not condition:
        raise Refused(why)


def cue_at(file, inside, id):
    """How the game calls a stream: by bank and id, by its place in the hold, or as a file of the deck."""
    if file.endswith(".chart"):
        return f"hold/{'/'.join(inside)}:{int(id)}"
    return f"{PurePosixPath(inside[-1]).stem}:{int(id)}" if id else f"deck/{inside[-1]}"


class Ferry:
    """A game folder. Files below `over` win over those of the game, as a patch folder does."""

    def __init__(self, folder, over=None):
        self.folders = [Path(p) for p in (over, folder) if p]
        self.over = Path(over) if over else None
        self.log = []
        ini = configparser.ConfigParser()
        ini.read_string(self._text("ferry.ini"))
        settings = ini["ferry"]
        self._check_sums(settings["sums"])
        order = self._text("data/order.txt").split("\n")[:-1]
        self.entries = self._crate(settings["crate"], order)
        self.hold = self._hold(settings["hold"], settings["build"])
        self.decks = [settings["deck"], *self._patches(settings["deck"])]
        self.cues = {}
        for line in self.entries["cues.txt"].decode().splitlines():
            cue, bank, id = line.split()
            self.cues[cue] = bank, int(id)
        self.scenes = {self.cues[name]: (name, int(seconds)) for name, seconds in ini["scenes"].items()}

    def _place(self, path):
        for folder in self.folders:
            if (folder / path).is_file():
                return folder / path
        raise Refused(f"{path} is missing")

    def _text(self, path):
        return self._place(path).read_text("utf-8")

    def _bytes(self, path):
        return self._place(path).read_bytes()

    def _check_sums(self, path):
        """Every file of the list has the size and CRC-32 that it gives."""
        lines = self._text(path).split("\n")
        _need(lines[0] == "SUMS 1" and lines[-1] == "", f"{path}: this is no list of sums")
        for line in lines[1:-1]:
            crc, size, name = line.split(" ", 2)
            data = self._bytes(f"{path.rpartition('/')[0]}/{name}")
            _need(len(data) == int(size), f"{name}: {len(data)} bytes, but {path} says {int(size)}")
            _need(zlib.crc32(data) == int(crc, 16), f"{name}: the sum is not the one in {path}")
        self.log.append(f"{len(lines) - 2} files as {path} lists them")

    def _hold(self, path, build):
        """The hold's entries by the hash of their path."""
        stem = path.rpartition(".")[0]
        entries = chart.read(self._bytes(path), build, lambda n: self._bytes(f"{stem}.cargo{n:02}"), _need)
        self.log.append(f"{path}: {len(entries)} entries, all sums right")
        return entries

    def _patches(self, deck):
        """ZIP files beside the deck's that win over it, in the order of their names."""
        folder = deck.rpartition("/")[0]
        names = {p.name for f in self.folders for p in (f / folder).glob("patch_*.zip")}
        return [f"{folder}/{name}" for name in sorted(names)]

    def _crate(self, path, order):
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
        """The streams of a bank of the crate."""
        path = next((p for p in self.entries if p.endswith(f"/{name}.bell")), None)
        _need(path is not None, f"there is no bank {name}")
        return self._streams(path, name, self.entries[path])

    def _hold_bank(self, path):
        """The streams of a bank in the hold, or in a crate in the hold: `cabin/cabin.crate/cabin.bell`."""
        outer, inside, inner = path.partition(".crate/")
        data = self.hold.get(chart.name_hash(outer + ".crate" if inside else path))
        _need(data is not None, f"the hold has no {path}")
        if inside:
            entries = self._crate_entries(f"{outer}.crate", data)
            _need(inner in entries, f"{outer}.crate has no {inner}")
            data = entries[inner]
        tow = self.hold.get(chart.name_hash(path.rpartition(".")[0] + ".tow"))
        return self._streams(path, Path(path).stem, data, tow)

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
        data = self._bytes("data/drift.bin")
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

    def _play_case(self, id):
        """A sound of data/case.bin."""
        try:
            kind, channels, block, rate, frames, payload = case.find(self._bytes("data/case.bin"), id)
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
        data = None
        for deck in self.decks:  # the last one wins
            try:
                with zipfile.ZipFile(self._place(deck)) as pack:
                    _need(pack.testzip() is None, f"{deck}: a sum is wrong")
                    if path in pack.namelist():
                        data, winner = pack.read(path), deck
            except zipfile.BadZipFile as e:
                raise Refused(f"{deck}: {e}") from e
        _need(data is not None, f"no deck has {path}")
        self.log.append(f"{path} comes from {winner}")
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
