"""Which two wires? The shortest change of leads that makes a motor fit the table a firmware expects.

A measured hall table says which pair of *physical* phases gives torque in each code. The firmware has a table of its own
over *terminals*. All 6 × 6 ways of putting phase and hall leads on terminals are tried; a way fits where the firmware's
pair is the right one in all six sectors (or the opposite one in all six: then the shaft turns the other way). Where
the spacing is another, hall signals are inverted too (in firmware or by an inverter, not by wires).
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass

from crisp_compass.errors import Refusal

#: A common table for 120° halls over terminals: code 4·h1 + 2·h2 + h3 → pair (textbook order 5 4 6 2 3 1).
COMMON_TABLE: dict[str, str] = {"5": "A+B-", "4": "A+C-", "6": "B+C-", "2": "B+A-", "3": "C+A-", "1": "C+B-"}
_PHASES = "ABC"
_FLIP = str.maketrans("+-", "-+")


@dataclass(frozen=True)
class LeadFix:
    """One way to make the motor fit.

    ``phases[k]`` is the terminal on which the lead now at terminal k belongs (0 to 2 for A to C), ``halls`` likewise
    for hall inputs 1 to 3; ``inverted`` lists hall inputs (1 to 3) to invert; ``direction`` +1 where the firmware's
    forward is the motor's A → B → C as the leads are now, −1 where it is the other way.
    """

    phases: tuple[int, int, int]
    halls: tuple[int, int, int]
    inverted: tuple[int, ...]
    direction: int

    @property
    def moves(self) -> int:
        """How many exchanges of two wires it takes; an inversion counts as two, since no wire does it."""
        return _swaps(self.phases) + _swaps(self.halls) + 2 * len(self.inverted)

    @property
    def text(self) -> str:
        """The change in words."""
        parts = [_words(self.phases, "lead", "ABC"), _words(self.halls, "hall wire", "123")]
        if self.inverted:
            parts.append(f"invert hall {' and '.join(str(k) for k in self.inverted)}")
        said = "; ".join(p for p in parts if p) or "nothing to change"
        return said if self.direction > 0 else f"{said} (the shaft then turns in reverse)"


def lead_fixes(states: Mapping[str, str], wanted: Mapping[str, str] | None = None) -> list[LeadFix]:
    """Return every way that fits, the shortest first, forward before backward.

    Parameters
    ----------
    states
        Measured: code → pair for forward torque, six of each.
    wanted
        The firmware's table over terminals; the common 120° one by default.

    Raises
    ------
    Refusal
        A table that has not six different codes and pairs.
    """
    wanted = COMMON_TABLE if wanted is None else wanted
    for name, table in (("measured", states), ("firmware's", wanted)):
        if len(table) != 6 or len(set(table.values())) != 6 or not all(c.isdigit() and int(c) < 8 for c in table):
            raise Refusal(f"the {name} table has not six codes with six different pairs", "six sectors are needed")
    found = []
    masks = (0,) if _polarity(states) == _polarity(wanted) else range(8)
    for mask in masks:
        for halls in itertools.permutations(range(3)):
            for phases in itertools.permutations(range(3)):
                direction = _fits(states, wanted, phases, halls, mask=mask)
                if direction:
                    inverted = tuple(k + 1 for k in range(3) if mask >> (2 - k) & 1)
                    found.append(LeadFix(phases, halls, inverted, direction))  # type: ignore[arg-type]
    return sorted(found, key=lambda m: (m.moves, -m.direction))


def _fits(
    states: Mapping[str, str], wanted: Mapping[str, str], phases: tuple[int, ...], halls: tuple[int, ...], mask: int
) -> int:
    """Return +1 or −1 where all six sectors agree, else 0."""
    directions = set()
    for code, pair in states.items():
        seen = sum(((int(code) >> (2 - k) & 1) << (2 - halls[k])) for k in range(3)) ^ mask
        driven = wanted.get(str(seen))
        if driven is None:
            return 0
        # the terminal that drives a lead: where that lead was put
        right = "".join(_PHASES[phases[_PHASES.index(c)]] if c in _PHASES else c for c in pair)
        directions.add(1 if _same(driven, right) else -1 if _same(driven, right.translate(_FLIP)) else 0)
    return directions.pop() if len(directions) == 1 else 0


def _same(a: str, b: str) -> bool:
    return {a[:2], a[2:]} == {b[:2], b[2:]}


def _polarity(table: Mapping[str, str]) -> bool:
    """Whether the codes 0 and 7 belong to the table (60° spacing, or one sensor inverted)."""
    return bool({"0", "7"} & set(table))


def _swaps(order: tuple[int, ...]) -> int:
    fixed = sum(1 for k, x in enumerate(order) if k == x)
    return {3: 0, 1: 1, 0: 2}[fixed]


def _words(order: tuple[int, ...], what: str, names: str) -> str:
    moved = [k for k, x in enumerate(order) if k != x]
    if not moved:
        return ""
    if len(moved) == 2:
        return f"exchange {what}s {names[moved[0]]} and {names[moved[1]]}"
    return f"move {what}s " + ", ".join(f"{names[k]} to {names[order[k]]}" for k in moved)
