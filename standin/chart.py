"""The hold: an index that only a key opens (.chart), and numbered volumes with the payloads (.cargo00 ...).

Head of 40 bytes: mark, version, volumes, entries, bytes and CRC-32 of the index, counter block. The index is
encrypted by AES-256 in counter mode; its records have 32 bytes. Payloads stand on a grid of 512 bytes in volumes of
at most VOLUME bytes, packed in chunks of 64 KiB by LZ4 or Zstandard. Entries are known by the FNV-1a hash of their
path in small letters.
"""

import hashlib
import struct
import zlib

import lz4.block
import zstandard
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

VOLUME = 640 << 10
GRID = 512
CHUNK = 1 << 16
PLAIN, LZ4, ZSTD = 0, 1, 2
KEYS = {
    build: hashlib.sha256(f"Saltglass Ferry {build}, the purser's key".encode()).digest() for build in ("1.0", "1.1")
}
HEAD = struct.Struct("<4sHHIII16s4s")
RECORD = struct.Struct("<QBBHIIIII")
RECORD_MARK = 0x7EA5


def name_hash(path):
    """FNV-1a, 64 bits, of the path in small letters."""
    value = 0xCBF29CE484222325
    for byte in path.lower().encode():
        value = (value ^ byte) * 0x100000001B3 & 0xFFFFFFFFFFFFFFFF
    return value


def crypt(data, key, counter):
    """AES-256 in counter mode; the same both ways."""
    return Cipher(algorithms.AES(key), modes.CTR(counter)).encryptor().update(data)


def pack(data, method):
    """A payload in chunks: their sizes, then the chunks; one that did not shrink is plain, its size's top bit set."""
    if method == PLAIN:
        return data
    sizes, body = b"", b""
    for at in range(0, len(data), CHUNK):
        piece = data[at : at + CHUNK]
        packed = lz4.block.compress(piece, store_size=False) if method == LZ4 else zstandard.compress(piece, 3)
        plain = len(packed) >= len(piece)
        sizes += struct.pack("<I", len(piece) | 1 << 31 if plain else len(packed))
        body += piece if plain else packed
    return sizes + body


def unpack(data, size, method):
    """The inverse of `pack`; ValueError where the chunks do not fit."""
    if method == PLAIN:
        return data
    count = -(-size // CHUNK)
    sizes, at, out = struct.unpack_from(f"<{count}I", data), 4 * count, []
    for n, word in enumerate(sizes):
        length, whole = word & 0x7FFFFFFF, min(CHUNK, size - n * CHUNK)
        piece = data[at : at + length]
        if len(piece) != length:
            raise ValueError("a chunk is cut short")
        if word >> 31:
            out.append(piece)
        elif method == LZ4:
            out.append(lz4.block.decompress(piece, uncompressed_size=whole))
        else:
            out.append(zstandard.decompress(piece, max_output_size=whole))
        if len(out[-1]) != whole:
            raise ValueError("a chunk has another size")
        at += length
    return b"".join(out)


def chart(build, files):
    """(index bytes, list of volumes): files is a list of (path, bytes, method)."""
    volumes, records = [bytearray()], []
    for path, data, method in files:
        stored = pack(data, method)
        if len(volumes[-1]) + len(stored) > VOLUME:
            volumes.append(bytearray())
        volume = volumes[-1]
        records.append(
            RECORD.pack(
                name_hash(path), len(volumes) - 1, method, RECORD_MARK, len(volume) // GRID, len(stored), len(data),
                zlib.crc32(data), len(records) * 7919 & 0xFFFFFFFF,
            )
        )  # fmt: skip
        volume += stored + bytes(-len(stored) % GRID)
    index = b"".join(records)
    counter = hashlib.md5(build.encode()).digest()
    head = HEAD.pack(b"CHRT", 5, len(volumes), len(files), len(index), zlib.crc32(index), counter, b"ebb\0")
    return head + crypt(index, KEYS[build], counter), [bytes(v) for v in volumes]


def read(head_and_index, build, open_volume, need):
    """hash -> unpacked bytes of all entries; `need(condition, why)` refuses."""
    need(len(head_and_index) >= HEAD.size and head_and_index[:4] == b"CHRT", "the chart has another mark")
    _, version, volumes, count, length, crc, counter, _ = HEAD.unpack_from(head_and_index)
    need(version == 5, f"the chart's version {version} is not for this game")
    need(len(head_and_index) == HEAD.size + length, "the chart has another length than it says")
    index = crypt(head_and_index[HEAD.size :], KEYS[build], counter)
    need(zlib.crc32(index) == crc, "the chart can't be read with this game's key")
    need(length == count * RECORD.size, f"the chart promises {count} entries")
    data = [open_volume(n) for n in range(volumes)]
    for n, volume in enumerate(data):
        need(len(volume) <= VOLUME, f"volume {n} has {len(volume)} bytes, more than {VOLUME}")
    out = {}
    for n in range(count):
        name, volume, method, mark, place, stored, size, crc, _ = RECORD.unpack_from(index, n * RECORD.size)
        where = f"the chart's entry {name:016x}"
        need(mark == RECORD_MARK and method in (PLAIN, LZ4, ZSTD) and name not in out, f"{where} is no good")
        need(volume < volumes, f"{where} stands in volume {volume}, which is not there")
        piece = data[volume][place * GRID : place * GRID + stored]
        need(len(piece) == stored, f"{where} leaves its volume")
        try:
            plain = unpack(piece, size, method)
        except (ValueError, struct.error, lz4.block.LZ4BlockError, zstandard.ZstdError) as e:
            need(False, f"{where} can't be unpacked ({e})")
        need(len(plain) == size and zlib.crc32(plain) == crc, f"{where}: the sum is wrong")
        out[name] = plain
    return out
