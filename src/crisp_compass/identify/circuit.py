"""Which kind of motor a capture is of, and how the windings lie between the terminals of a two-terminal test."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.model import Capture
from crisp_compass.conversions import FAMILIES
from crisp_compass.errors import Refusal
from crisp_compass.files import shortened

_NAMES = {
    "pm": "a three-phase magnet motor",
    "stepper": "a two-phase stepper",
    "brushed": "a brushed motor",
    "induction": "an induction motor",
}
#: Signals that only one sort of motor has: line voltages and a third phase, or an armature.
_THREE_PHASE = {"v_ab", "v_bc", "v_ca", "v_c", "i_c", "v_cmd", "hall_1", "hall_2", "hall_3"}
_ARMATURE = {"v_m", "i_m"}
#: Phase impedances in series between the terminals, by the note ``circuit``.
_FACTORS = {"a-b": 2.0, "a-bc": 1.5}


def family_of_capture(capture: Capture, asked: str | None = None) -> str:
    """Return the family that a capture is to be read as.

    The note ``family`` and ``asked`` must not differ; without either it is ``pm``. Raises Refusal where they do, where there is no
    such family, and where the signals are another family's.
    """
    noted = capture.notes.get("family", "").strip().lower() or None
    for text, where in ((asked, "--family"), (noted, capture.source)):
        if text is not None and text not in FAMILIES:
            raise Refusal(
                f"“{shortened(text)}” is no family of motors",
                f"use {', '.join(FAMILIES)}",
                where=where,
                code="family",
            )
    if asked and noted and asked != noted:
        raise Refusal(
            f"the capture's note says {_NAMES[noted]}, it was to be read as {_NAMES[asked]}",
            "load it for the right motor, or correct the note",
            where=capture.source,
            code="family",
        )
    family = asked or noted or "pm"
    names = set(capture.columns)
    looks = "brushed" if names & _ARMATURE else "pm" if names & _THREE_PHASE else None
    own = {"pm": ("pm",), "induction": ("pm",), "stepper": (), "brushed": ("brushed",)}[family]
    if looks is not None and looks not in own:
        found = ", ".join(sorted(names & (_ARMATURE | _THREE_PHASE)))
        raise Refusal(
            f"it holds {found}, which {_NAMES[family]} does not have: it looks like a capture of {_NAMES[looks]}",
            "load it for that motor, or map its channels to the right signals",
            where=capture.source,
            code="family",
        )
    return family


@dataclass(frozen=True)
class Terminals:
    """The two channels of a test at standstill, how many windings lie between them, and what that is called.

    ``brushes`` says that a drop follows the current's sign.
    """

    voltage: str
    current: str
    factor: float
    place: str
    brushes: bool = False


def terminals_of(capture: Capture, family: str) -> Terminals:
    """Return the circuit that a capture of a held rotor shows; raises Refusal where its channels are missing."""
    return _CIRCUITS.get(family, _line)(capture)


def _line(capture: Capture) -> Terminals:
    return Terminals("v_ab", "i_a", circuit_factor(capture), "between A and B")


def _armature(_: Capture) -> Terminals:
    return Terminals("v_m", "i_m", 1.0, "at the armature", brushes=True)


def _winding(capture: Capture) -> Terminals:
    """Return the winding that carries current: the one with more of it where both are recorded."""
    there = [w for w in "ab" if f"v_{w}" in capture and f"i_{w}" in capture]
    if not there:
        capture["v_a" if "v_b" not in capture else "i_b"]  # writes the refusal for the missing column
        capture["i_a"]
    winding = max(there, key=lambda w: float(np.ptp(capture[f"i_{w}"])))
    return Terminals(f"v_{winding}", f"i_{winding}", 1.0, f"of winding {winding.upper()}")


#: Circuits of the families that are no star.
_CIRCUITS = {"brushed": _armature, "stepper": _winding}


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
