"""Templates that say what of a name is what: "{language}/{id}_*"."""

from __future__ import annotations

import re
import unicodedata

from .errors import ZubretError

PARTS = {"id": r"[^/]+?", "name": r"[^/]+?", "language": r"[^/_\-. ]+", "bank": r"[^/]+", "number": r"\d+"}
"""What may stand in a template between braces, and what of a name it fits; `number` is the place in a list."""


def normal(text: str) -> str:
    """As names are compared: whatever their letters' case, and however accents are written (Unicode, NFC)."""
    return unicodedata.normalize("NFC", text).casefold()


def template(text: str, parts: tuple[str, ...] = tuple(PARTS)) -> re.Pattern[str]:
    """A template as a pattern for whole names as `normal` gives them, with groups of its parts; folders that it does not name may
    stand before it. ZubretError where it names no stream, or a part that is not one of these, or one twice."""
    out, used = [], set()
    for piece in re.split(r"(\{[^{}]*\}|\*)", normal(text.strip())):
        if piece == "*":
            out.append("[^/]*?")
        elif piece.startswith("{") and piece.endswith("}"):
            part = piece[1:-1].strip()
            if part not in parts or part in used:
                raise ZubretError(
                    f"{piece} can't stand {'twice ' if part in used else ''}in a template.",
                    field="template",
                    next=f"Use {', '.join('{' + name + '}' for name in parts)}, each once, and * for anything.",
                )
            used.add(part)
            out.append(f"(?P<{part}>{PARTS[part]})")
        else:
            out.append(re.escape(piece))
    naming = [part for part in ("id", "name", "number") if part in parts]
    if not used & set(naming):
        wanted = " or ".join(f"{{{part}}}" for part in naming)
        raise ZubretError("The template names no stream.", field="template", next=f"Put {wanted} into it.")
    return re.compile(f"(?:.*/)?{''.join(out)}")
