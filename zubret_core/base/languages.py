"""Languages in the ways in which files, folders and tables name them.

Source: ISO 639-1 and ISO 639-2 (codes and English names), RFC 5646 (a region behind the code); own names from memory. Which
languages games are spoken in is common practice.
"""

from __future__ import annotations

from functools import lru_cache

_KNOWN = """
ar ara arabic العربية
cs ces cze czech čeština
da dan danish dansk
de deu ger german deutsch
el ell gre greek ελληνικά
en eng english
es spa spanish español
fi fin finnish suomi
fr fra fre french français
he heb hebrew עברית
hi hin hindi हिन्दी
hu hun hungarian magyar
id ind indonesian indonesia
it ita italian italiano
ja jpn jp jap japanese 日本語
ko kor kr korean 한국어
nb nob no nor norwegian norsk
nl nld dut dutch nederlands
pl pol polish polski
pt por portuguese português
ro ron rum romanian română
ru rus russian русский
sk slk slo slovak slovenčina
sv swe swedish svenska
th tha thai ไทย
tr tur turkish türkçe
uk ukr ua ukrainian українська
vi vie vietnamese
zh zho chi cn chinese 中文
"""
_NAMES = {name: frozenset(line.split()) for line in _KNOWN.strip().splitlines() for name in line.split()}


@lru_cache(maxsize=4096)
def language_names(text: str) -> frozenset[str]:
    """All the ways in which a language may be named, the given one among them; none for an empty text. A region ("pt-BR",
    "Spanish (Mexico)") is a name of its own, too."""
    whole = text.strip().casefold()
    if not whole:
        return frozenset()
    first = whole.replace("_", "-").replace("(", "-").split("-")[0].strip()
    known = _NAMES.get(whole) or (_NAMES.get(first, frozenset()) if first != whole else frozenset())
    return known | {whole}
