"""Which fonts of this machine can print a text, and what is written for a character that none of them has."""

from __future__ import annotations

from functools import lru_cache

from matplotlib import font_manager
from matplotlib.ft2font import FT2Font

#: The font that comes with the plotting library, and how many fonts of the machine are looked through for what it lacks.
BASE, _MOST = "DejaVu Sans", 400


@lru_cache(maxsize=64)
def _glyphs(path: str) -> frozenset[int]:
    try:
        return frozenset(FT2Font(path).get_charmap())
    except (RuntimeError, OSError):
        return frozenset()


@lru_cache(maxsize=16)
def _path(family: str) -> str:
    # as a list: a name with a hyphen would be read as a pattern
    return str(font_manager.findfont(font_manager.FontProperties(family=[family])))


def families_for(text: str) -> list[str]:
    """Return font families that together print as much of a text as this machine can, the usual one first."""
    missing = {ord(c) for c in text} - _glyphs(_path(BASE)) - {10}
    chosen = [BASE]
    for font in font_manager.fontManager.ttflist[:_MOST] if missing else []:
        covered = missing & _glyphs(font.fname)
        if covered and font.name not in chosen and not font.name.startswith("Last Resort"):
            chosen.append(font.name)
            missing -= covered
        if not missing:
            break
    return chosen


def printable(text: str, families: list[str]) -> str:
    """Return a text in which a character without a glyph stands as its code (⟨U+30DD⟩): nothing is lost, and nothing is an empty box."""
    known = frozenset[int]().union(*(_glyphs(_path(f)) for f in families))
    return "".join(c if ord(c) in known or c == "\n" else f"⟨U+{ord(c):04X}⟩" for c in text)
