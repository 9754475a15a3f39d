"""Why a finding or a refusal says what it says: a paragraph for each code, as the program ships them."""

from __future__ import annotations

from fnmatch import fnmatchcase
from functools import lru_cache
from pathlib import Path


@lru_cache(maxsize=1)
def reasons() -> dict[str, str]:
    """Return code → paragraph; a code with a star stands for all that it fits."""
    found = {}
    for line in (Path(__file__).parent / "why.md").read_text(encoding="utf-8").splitlines():
        code, colon, text = line.partition(": ")
        if colon and " " not in code and not line.startswith("#"):
            found[code] = text
    return found


def why(code: str) -> str:
    """Return the paragraph of a code; empty where there is none."""
    known = reasons()
    if code in known:
        return known[code]
    return next((text for pattern, text in known.items() if "*" in pattern and fnmatchcase(code, pattern)), "")


def reasons_with(words: str) -> list[tuple[str, str]]:
    """Return code and paragraph of every reason that has all of the words, in the order of the file."""
    wanted = words.lower().split()
    return [(code, text) for code, text in reasons().items() if wanted and all(w in f"{code} {text}".lower() for w in wanted)]
