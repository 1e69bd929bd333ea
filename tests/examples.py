"""The worked examples of the language's page: a layout, files in a small notation, and what they give."""

import gzip
import hashlib
import re
import struct
import zlib
from dataclasses import dataclass, field
from functools import lru_cache

import lz4.block
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from tests.support import ROOT
from zubret_core.layout import load_layout
from zubret_core.layout.loading.reuse import others_among

TOKEN = re.compile(
    r"""\s*(?:(?P<text>"[^"]*")|(?P<number>[uU]\d+:(?:0x[0-9a-f]+|\d+))|f32:(?P<float>[\d.]+)|\*(?P<times>\d+)|(?P<call>[a-z0-9-]+)\("""
    r"""|(?P<end>\))|(?P<hex>(?:[0-9a-f]{2})+(?![a-z0-9-]*\()))"""
)


@dataclass
class Example:
    """title; layout text; files by name, "" the described one; keys; contents by path; or streams, each a line of words and its
    payload."""

    title: str
    layout: str
    files: dict[str, bytes] = field(default_factory=dict)
    keys: dict[str, bytes] = field(default_factory=dict)
    gives: dict[str, bytes] = field(default_factory=dict)
    streams: dict[str, bytes] = field(default_factory=dict)


@lru_cache(maxsize=100)
def loaded(text: str, title: str = "page"):
    """A layout, which may use others of the page; a text is loaded once, for it is opened by the thousand."""
    return load_layout(text, title, others_among(e.layout for e in examples()))


def deflated(data: bytes) -> bytes:
    packer = zlib.compressobj(6, zlib.DEFLATED, -15)
    return packer.compress(data) + packer.flush()


def bytes_of(text: str, keys: dict[str, bytes]) -> bytes:
    """The bytes that a text in the page's notation stands for."""
    data, at = _run(text.strip(), 0, keys)
    assert at == len(text.strip()), f"not understood: {text[at : at + 30]}"
    return data


def _run(text: str, at: int, keys: dict[str, bytes]) -> tuple[bytes, int]:
    out, last = b"", b""
    while at < len(text):
        found = TOKEN.match(text, at)
        if not found:
            break
        at = found.end()
        if found["end"]:
            return out + last, at
        if found["times"]:
            last *= int(found["times"])
            continue
        out += last
        if found["text"]:
            last = found["text"][1:-1].encode()
        elif found["hex"]:
            last = bytes.fromhex(found["hex"])
        elif found["float"]:
            last = struct.pack("<f", float(found["float"]))
        elif found["number"]:
            kind, value = found["number"].split(":")
            last = int(value, 0).to_bytes(int(kind[1:]) // 8, "big" if kind[0] == "U" else "little")
        else:
            last, at = _call(found["call"], text, at, keys)
    return out + last, at


def _call(name: str, text: str, at: int, keys: dict[str, bytes]) -> tuple[bytes, int]:
    if name == "aes-cbc":
        words = re.compile(r"\s*key (\w+) iv ([0-9a-f]+)").match(text, at)
        data, at = _run(text, words.end(), keys)
        cipher = Cipher(algorithms.AES(keys[words[1]]), modes.CBC(bytes.fromhex(words[2]))).encryptor()
        whole = len(data) // 16 * 16
        return cipher.update(data[:whole]) + data[whole:], at
    if name == "xor":
        words = re.compile(r"\s*([0-9a-f]+)").match(text, at)
        data, at = _run(text, words.end(), keys)
        row = bytes.fromhex(words[1])
        return bytes(b ^ row[n % len(row)] for n, b in enumerate(data)), at
    if name == "generator":  # the state after this seed, and so on: 32 bits, its bits from the 16th on
        words = re.compile(r"\s*(\d+)").match(text, at)
        data, at = _run(text, words.end(), keys)
        state, out = int(words[1]), []
        for byte in data:
            state = (state * 1103515245 + 12345) % 2**32
            out.append(byte ^ state >> 16 & 255)
        return bytes(out), at
    data, at = _run(text, at, keys)
    calls = {
        "zlib": zlib.compress,
        "deflate": deflated,
        "gzip": lambda d: gzip.compress(d, mtime=0),
        "lz4": lambda d: lz4.block.compress(d, store_size=False),
        "md5": lambda d: hashlib.md5(d).digest(),
    }
    return calls[name](data), at


def examples() -> list[Example]:
    """All worked examples of archives in the page, in order."""
    return [e for e in every_example() if e.gives]


def bank_examples() -> list[Example]:
    """All those of banks and of streams."""
    return [e for e in every_example() if e.streams]


def every_example() -> list[Example]:
    """All worked examples of the page, in order."""
    page = (ROOT / "docs/layout-language.md").read_text("utf-8")
    out = []
    for title, body in re.findall(r"^### (.+?)\n(.*?)(?=^##|\Z)", page.split("## Worked examples")[1], re.S | re.M):
        blocks = re.findall(r"```(\w+) ?([^\n]*)\n(.*?)```", body, re.S)
        if not any(kind in ("gives", "streams") for kind, _, _ in blocks):
            continue
        example = Example(title, next(text for kind, _, text in blocks if kind == "yaml"))
        for kind, _, text in blocks:
            if kind == "keys":
                example.keys = {k: bytes.fromhex(v) for k, v in re.findall(r"(\w+): (\w+)", text)}
        for kind, name, text in blocks:
            if kind == "file":
                example.files[name] = bytes_of(text, example.keys)
            elif kind == "gives":
                for line in text.strip().splitlines():
                    path, _, content = line.partition(" = ")
                    example.gives[path] = bytes_of(content, {})
            elif kind == "streams":
                for line in text.strip().splitlines():
                    words, _, content = line.partition(": ")
                    example.streams[words] = bytes_of(content, {})
        out.append(example)
    return out


@dataclass
class GameExample:
    """title; load rules; a game's files by path: a text, names of the files in a ZIP archive, or None for a loose file; who holds what;
    the files that come of changes, by (game's path, way)."""

    title: str
    rules: str
    files: dict[str, str | list[str] | None]
    wins: dict[str, list[str]]
    puts: dict[tuple[str, str], list[str]]


def game_examples() -> list[GameExample]:
    """Those of the load rules' page."""
    page = (ROOT / "docs/load-rules.md").read_text("utf-8")
    out = []
    for section in page.split("\n### ")[1:]:
        blocks = dict(re.findall(r"```(yaml|game|wins)\n(.*?)```", section, re.S))
        files: dict[str, str | list[str] | None] = {}
        for line in blocks["game"].splitlines():
            path, sign, rest = re.fullmatch(r"(\S+)(?: (=) |(?:(:) )|$)(.*)", line).group(1, 2, 4)
            files[path] = rest.replace("|", "\n") if sign else rest.split(", ") if rest else None
        pairs = [line.rsplit(": ", 1) for line in blocks["wins"].splitlines()]
        wins = {path: places.split(", ") for path, places in pairs if not path.startswith("put ")}
        puts = {
            tuple(path.removeprefix("put ").split(" by ")): files.split(", ")
            for path, files in pairs
            if path.startswith("put ")
        }
        out.append(GameExample(section.split("\n")[0], blocks["yaml"], files, wins, puts))
    return out
