"""A mod as one ZIP file that anybody may read: what it changes, by digests of the game's own sound, and the new sound as it was given.
`docs/mod-package.md` tells the form, `docs/mod-package.schema.json` its manifest.

Not a byte of a game is in it. A package of somebody else's is not trusted: names, sizes and digests are checked before and while it is
unpacked.
"""

from __future__ import annotations

import hashlib
import json
import re
import zipfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from .base import Progress, ZubretError, silent
from .base.wording import spaced

FORM = 1
"""The version of the form that this program writes, and the newest that it reads."""
MANIFEST = "mod.json"
MOST_MANIFEST = 64 << 20
"""Bytes of a manifest at most: that of a mod of 40,000 swaps has some 20 MB."""
RATIO = 1_100
"""As much more than its packed bytes a member may have: Deflate (RFC 1951) can't do more than 1,032."""
PIECE = 1 << 20

Text = Annotated[str, Field(max_length=2_000)]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
Member = Annotated[str, Field(pattern=r"^new/[0-9a-f]{64}(\.[a-z0-9]{1,7})?$")]


class Part(BaseModel):
    """A part of the manifest; what the form does not know is refused, so that nothing is lost in silence."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Stream(Part):
    """Where a stream stands: the file in the game's folder, the entries on the way in, and its id, or where it has none its number
    from 0."""

    archive: Text
    entries: Annotated[list[Text], Field(max_length=100)]
    id: Text = ""
    number: Annotated[int, Field(ge=0)] = 0


class Original(Part):
    """The stream that the mod was made against: the BLAKE2b digest (RFC 7693) of its payload in 16 bytes, how many bytes that has, and
    its format."""

    digest: Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
    bytes: Annotated[int, Field(ge=0)]
    format: dict[str, object]


class New(Part):
    """A file of the package: its member, the name that it had, and its SHA-256 (FIPS 180-4)."""

    member: Member
    name: Text
    sha256: Digest


class Swap(Part):
    """A stream and what takes its place. begins: with a file, with the game's own sound (original), with another of its streams (other),
    with silence, or with a payload as a bank stores it (stored), whose format is given and to which nothing is done; treatment: what is done to it, by the steps that the documentation lists."""

    stream: Stream
    original: Original | None = None
    begins: Literal["file", "original", "stream", "silence", "stored"]
    file: New | None = None
    format: dict[str, object] | None = None
    other: Stream | None = None
    treatment: dict[str, object] = {}


class Entry(Part):
    """A file that goes into an archive as it is, in the place of the entry at `path`, or as a new one (adds). inside: the entries on the
    way to the archive, where that stands in another one."""

    archive: Text
    inside: Annotated[list[Text], Field(max_length=100)] = []
    path: Text
    adds: bool = False
    file: New


class Game(Part):
    """The game by its name, and the builds against which the mod was made."""

    name: Text
    builds: list[Text] = []


class Manifest(Part):
    """What is in a package. zubret_mod: the version of the form; picture: PNG, JPEG or WebP."""

    zubret_mod: Literal[1] = 1
    name: Annotated[str, Field(min_length=1, max_length=200, pattern=r"\S")]
    version: Annotated[str, Field(max_length=40)] = ""
    author: Annotated[str, Field(max_length=200)] = ""
    licence: Annotated[str, Field(max_length=200)] = ""
    note: Annotated[str, Field(max_length=20_000)] = ""
    picture: New | None = None
    game: Game
    swaps: Annotated[list[Swap], Field(max_length=500_000)] = []
    files: Annotated[list[Entry], Field(max_length=500_000)] = []

    def new(self) -> Iterator[New]:
        """The files that it names, each once."""
        found = {n.member: n for n in [self.picture, *(s.file for s in self.swaps), *(f.file for f in self.files)] if n}
        return iter(found.values())


def schema() -> str:
    """The JSON Schema (draft 2020-12) of a manifest, as `docs/mod-package.schema.json` holds it."""
    own = {"$schema": "https://json-schema.org/draft/2020-12/schema", **Manifest.model_json_schema()}
    return json.dumps(own, indent=2, ensure_ascii=False) + "\n"


def member_of(sha256: str, name: str) -> str:
    """What a file is called in a package."""
    ending = Path(name).suffix.lower()
    return f"new/{sha256}{ending if re.fullmatch(r'[.][a-z0-9]{1,7}', ending) else ''}"


def pack(manifest: Manifest, places: dict[str, Path], out: Path, progress: Progress = silent) -> None:
    """Write a package. places: where each member's file is. Audio that is packed already is not packed again; equal packages have equal
    bytes."""
    total = sum(place.stat().st_size for place in places.values()) or 1
    done = 0

    def pieces(place: Path) -> Iterator[bytes]:
        nonlocal done
        with place.open("rb") as source:
            while piece := source.read(PIECE):
                yield piece
                done += len(piece)
                progress(done, total, f"packing {place.name}")

    with zipfile.ZipFile(out, "w") as target:
        text = json.dumps(manifest.model_dump(exclude_defaults=True) | {"zubret_mod": FORM}, indent=1)
        _add(target, MANIFEST, zipfile.ZIP_DEFLATED, [text.encode()])
        for member, place in sorted(places.items()):
            packed = member.endswith((".flac", ".ogg", ".opus", ".mp3", ".m4a"))
            _add(target, member, zipfile.ZIP_STORED if packed else zipfile.ZIP_DEFLATED, pieces(place))


def _add(target: zipfile.ZipFile, name: str, method: int, pieces: Iterable[bytes]) -> None:
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    info.compress_type, info.external_attr = method, 0o644 << 16
    with target.open(info, "w", force_zip64=True) as member:
        for piece in pieces:
            member.write(piece)


class Package:
    """A package that somebody gave, open for reading. A ZubretError says what is wrong with it."""

    def __init__(self, place: Path) -> None:
        self._place = place
        try:
            self._zip = zipfile.ZipFile(place)
        except (zipfile.BadZipFile, OSError, NotImplementedError, ValueError) as e:
            raise self._wrong(
                "This is no package: it can't be read as a ZIP file.", "Choose a package of a mod."
            ) from e
        try:
            self.manifest = self._manifest()
            self._members = {info.filename: info for info in self._zip.infolist()}
            self._check()
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Package:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def close(self) -> None:
        """Give the file back."""
        self._zip.close()

    def _wrong(self, what: str, next: str, field: str | None = None) -> ZubretError:
        return ZubretError(what, file=self._place.name, field=field, next=next)

    def _manifest(self) -> Manifest:
        again = "Ask whoever made it for another copy."
        try:
            info = self._zip.getinfo(MANIFEST)
        except KeyError as e:
            raise self._wrong(f"This is no package: it has no {MANIFEST}.", "Choose a package of a mod.") from e
        if info.file_size > MOST_MANIFEST:
            raise self._wrong(f"Its {MANIFEST} has {spaced(info.file_size)} bytes.", again)
        try:
            data = json.loads(self._read(info))
        except (ValueError, RecursionError) as e:
            raise self._wrong(f"Its {MANIFEST} is no JSON text: {e}.", again) from e
        form = data.get("zubret_mod") if isinstance(data, dict) else None
        if isinstance(form, int) and form > FORM:
            raise self._wrong(
                f"The package has form {form}; this program reads up to {FORM}.", "Get a newer Zubret.", "zubret_mod"
            )
        try:
            return Manifest.model_validate(data)
        except ValidationError as e:
            first = e.errors()[0]
            where = ".".join(map(str, first["loc"])) or MANIFEST
            raise self._wrong(f"Its {MANIFEST} is not of the form: {first['msg']}.", again, where) from e

    def _read(self, info: zipfile.ZipInfo) -> bytes:
        return b"".join(self._pieces(info))

    def _pieces(self, info: zipfile.ZipInfo) -> Iterator[bytes]:
        """The bytes of a member, and never more than it says that it has."""
        left = info.file_size
        try:
            with self._zip.open(info) as source:
                while piece := source.read(min(PIECE, left + 1)):
                    left -= len(piece)
                    if left < 0:
                        raise zipfile.BadZipFile("more bytes than its directory says")
                    yield piece
        except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, OSError) as e:
            raise self._wrong(
                f"{info.filename} can't be unpacked: {e}.", "Ask whoever made it for another copy."
            ) from e

    def _check(self) -> None:
        again = "Ask whoever made it for another copy."
        for name, info in self._members.items():
            if info.file_size > RATIO * max(info.compress_size, 1):
                raise self._wrong(f"{name} claims to hold more than can be packed into it.", "Do not use this package.")
        for new in self.manifest.new():
            if new.member not in self._members:
                raise self._wrong(f"{new.member} ({new.name}) is missing in it.", again)
            if not new.member.startswith(f"new/{new.sha256}"):
                raise self._wrong(f"{new.name} is called {new.member}, which is not its digest.", again)
        for swap in self.manifest.swaps:
            if (
                (swap.begins in ("file", "stored")) != (swap.file is not None)
                or (swap.begins == "stored") != (swap.format is not None)
                or (swap.begins == "stream") != (swap.other is not None)
            ):
                raise self._wrong(f"A swap of {swap.stream.archive} does not say what it begins with.", again, "swaps")

    @property
    def size(self) -> int:
        """Of all files in it, unpacked."""
        return sum(self._members[new.member].file_size for new in self.manifest.new())

    @property
    def unknown(self) -> list[str]:
        """Members that the manifest does not name."""
        named = {MANIFEST, *(new.member for new in self.manifest.new())}
        return sorted(name for name in self._members if name not in named and not name.endswith("/"))

    def unpack(self, new: New, to: Callable[[bytes], object]) -> None:
        """Give the bytes of a file, piece by piece; a ZubretError at the end where they are not those that the manifest tells."""
        value = hashlib.sha256()
        for piece in self._pieces(self._members[new.member]):
            value.update(piece)
            to(piece)
        if value.hexdigest() != new.sha256:
            raise self._wrong(
                f"{new.name} is not what the manifest says: its SHA-256 is another one.", "Do not use it."
            )
