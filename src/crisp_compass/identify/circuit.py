"""How the windings lie between the terminals of a two-terminal test."""

from __future__ import annotations

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal

#: Phase impedances in series between the terminals, by the note ``circuit``.
_FACTORS = {"a-b": 2.0, "a-bc": 1.5}


def circuit_factor(capture: Capture) -> float:
    """Return how many star phases R [Ω] or L [H] between the terminals amount to.

    2 for A against B with C open (also without a note), 1.5 for A against B and C joined; raises Refusal for
    any other note ``circuit``.
    """
    circuit = capture.notes.get("circuit", "a-b").lower().replace(" ", "")
    if circuit not in _FACTORS:
        raise Refusal(
            f"the note says circuit {circuit}",
            "a-b (C open) or a-bc (B and C joined) can be evaluated",
            where=capture.source,
        )
    return _FACTORS[circuit]
