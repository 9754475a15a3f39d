"""Mapping instrument channels to signal names: ``i_a=-CH2*10``."""

from __future__ import annotations

import re
from dataclasses import dataclass

from crisp_compass.capture.signals import SIGNALS
from crisp_compass.errors import Refusal

_MAPPING = re.compile(r"^\s*(\w+)\s*=\s*(-?)\s*(.+?)\s*(?:\*\s*([-+]?[\d.,]+(?:[eE][-+]?\d+)?)\s*)?$")


@dataclass(frozen=True)
class ColumnMapping:
    """One ``NAME=[-]SOURCE[*FACTOR]``; ``factor`` carries the sign."""

    name: str
    source: str
    factor: float

    @classmethod
    def parse(cls, text: str) -> ColumnMapping:
        """Read the text form; raises Refusal with the option named."""
        match = _MAPPING.match(text)
        if match is None:
            raise Refusal(
                f"“{text}” is no column mapping",
                "write NAME=SOURCE, NAME=-SOURCE or NAME=SOURCE*FACTOR",
                where="--column",
            )
        name, minus, source, factor_text = match.groups()
        if name not in SIGNALS and name != "t":
            raise Refusal(f"“{name}” is no signal name", f"use one of t, {', '.join(SIGNALS)}", where="--column")
        try:
            factor = float(factor_text.replace(",", ".")) if factor_text else 1.0
        except ValueError:
            raise Refusal(f"“{factor_text}” in “{text}” is not a number", where="--column") from None
        if factor == 0 or not abs(factor) < 1e12:
            raise Refusal(f"the factor {factor_text} in “{text}” cannot be meant", where="--column")
        return cls(name, source, -factor if minus else factor)


def find_source(source: str, names: tuple[str, ...]) -> int:
    """Return the index of the source column, exact name first, then without regard to case."""
    for fold in (str, str.casefold):
        hits = [i for i, name in enumerate(names) if fold(name) == fold(source)]
        if len(hits) == 1:
            return hits[0]
        if len(hits) > 1:
            raise Refusal(f"there are {len(hits)} columns named “{source}”", "give the columns different names")
    raise Refusal(f"there is no column “{source}” (found: {', '.join(names)})", "map a channel that the file holds")
