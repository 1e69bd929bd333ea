"""Names of sound files by a small template."""

from __future__ import annotations

import re
from collections.abc import Mapping

from ..base import ZubretError

FIELDS = {
    "bank": "the bank's name",
    "id": "the stream's id",
    "name": "its given name, else the stored one",
    "language": "the bank's language",
    "entry": "the entry's path without its ending",
    "archive": "the archive's file name without its ending",
    "number": "a number that counts up",
    "length": "minutes and seconds, such as 1m12",
    "rate": "Hz",
    "channels": "how many",
    "codec": "the codec's name in layouts",
    "kind": "music, voice or effect",
}
"""What may stand in braces."""
USUAL = "{bank}/{id} {name}"
_FIELD = re.compile(r"\{(\w*)(?::(\d{1,2}))?\}")


def checked_template(text: str) -> str:
    """The template itself; ZubretError where a field does not exist or a brace stands alone."""

    def wrong(what: str) -> ZubretError:
        names = ", ".join(f"{{{name}}}" for name in FIELDS)
        return ZubretError(what, field="template", next=f"There are {names}; {{number:4}} fills up with zeros.")

    if not text.strip(" /"):
        raise wrong("The template is empty.")
    if len(text) > 300:
        raise wrong("The template is longer than 300 characters.")
    for name, _ in _FIELD.findall(text):
        if name not in FIELDS:
            raise wrong(f'The template has a field "{name}" that does not exist.')
    if re.search(r"[{}]", _FIELD.sub("", text)):
        raise wrong("The template has a brace without its partner.")
    return text


def named(template: str, facts: Mapping[str, object]) -> str:
    """The name by a checked template, without ending. Slashes in a value become `_`; what is empty leaves no gap."""

    def value(match: re.Match[str]) -> str:
        text = str(facts.get(match[1], "") or "")
        if match[1] != "entry":
            text = text.replace("/", "_").replace("\\", "_")
        return text.zfill(int(match[2])) if match[2] else text

    pieces = []
    for piece in _FIELD.sub(value, template).split("/"):
        piece = re.sub(r"([ _.-])\1+", r"\1", piece).strip(" _-")
        if piece:
            pieces.append(piece)
    return "/".join(pieces) or str(facts.get("id") or facts.get("number") or "sound")
