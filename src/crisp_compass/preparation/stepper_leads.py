"""Four, six or eight leads of a stepper: which make a pair, and what series, parallel and half windings are.

Every phase is wound with one or two equal coils. With one coil as the measure (R, L, ψ, rated I for its heat): two in series have
2R, 4L, 2ψ, two in parallel R/2, L, ψ; the same heat in all copper of the phase allows I/√2 in series and I·√2 in parallel, so the torque
ψ·I of both is the same, and √2 of one coil alone (textbook; the coils of a phase share one flux path).
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import Literal

from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import show

Connection = Literal["series", "parallel", "half"]
#: Relative to one coil: R, L, ψ, current for the same heat in the copper that carries it.
_OF_A_COIL: dict[Connection, tuple[float, float, float, float]] = {
    "half": (1.0, 1.0, 1.0, 1.0),
    "series": (2.0, 4.0, 2.0, math.sqrt(0.5)),
    "parallel": (0.5, 1.0, 1.0, math.sqrt(2.0)),
}
#: Reading from which nothing connects two leads, Ω.
OPEN = 1e6
#: How far two readings of equal copper may lie apart (probes and contacts).
_ALIKE = 0.2


@dataclass(frozen=True)
class Connected:
    """One connection of a phase: Ω, H, A (in the base of the data sheet), ψ and torque at that current over those of the data
    sheet's connection, and the time constant L/R [s]."""

    connection: Connection
    r: float | None
    inductance: float | None
    current: float
    flux: float
    torque: float
    time_constant: float | None


def connections(leads: int) -> tuple[Connection, ...]:
    """Return what can be connected with this many leads: a centre tap leaves the halves or both in series."""
    return {4: ("series",), 6: ("half", "series"), 8: ("half", "series", "parallel")}[leads]  # type: ignore[return-value]


def connected(
    r: float | None, inductance: float | None, current: float, given: Connection, leads: int
) -> list[Connected]:
    """Return every connection of a motor whose data sheet states ``r`` [Ω], ``inductance`` [H] and ``current`` [A] ``given`` one way."""
    base = _OF_A_COIL["series" if leads == 4 else given]
    found = []
    for name in connections(leads):
        ratio = [a / b for a, b in zip(_OF_A_COIL[name], base, strict=True)]
        resistance = None if r is None else r * ratio[0]
        ell = None if inductance is None else inductance * ratio[1]
        tau = ell / resistance if ell and resistance else None
        found.append(Connected(name, resistance, ell, current * ratio[3], flux=ratio[2], torque=ratio[2] * ratio[3], time_constant=tau))
    return found


@dataclass(frozen=True)
class LeadsFound:
    """Groups of leads that conduct among each other, each with its centre tap first where it has one; and what to say."""

    groups: tuple[tuple[int, ...], ...]
    taps: tuple[int, ...]
    findings: tuple[Finding, ...]
    complete: bool


def key_of(first: int, second: int) -> str:
    """Return how a reading between two leads is kept: ``1-2``, the smaller first."""
    return f"{min(first, second)}-{max(first, second)}"


def pairs(ohms: dict[str, float], leads: int) -> LeadsFound:
    """Tell pairs and centre taps from readings between leads [Ω, open from 1 MΩ].

    Leads that conduct belong together. Of three, the one that reads half of what the other two read is the tap. Eight leads make four
    pairs, and which two of them are halves of one phase the ohmmeter does not tell.
    """
    joined = {k: {k} for k in range(1, leads + 1)}
    for key, value in ohms.items():
        a, b = (int(x) for x in key.split("-"))
        if max(a, b) <= leads and value < OPEN and joined[a] is not joined[b]:
            both = joined[a] | joined[b]
            for k in both:
                joined[k] = both
    groups = sorted({tuple(sorted(g)) for g in joined.values()})
    wanted = {4: [2, 2], 6: [3, 3], 8: [2, 2, 2, 2]}[leads]
    findings: list[Finding] = []
    taps = []
    for group in groups:
        if len(group) != 3:
            continue
        read = {frozenset(p): ohms.get(key_of(*p)) for p in itertools.combinations(group, 2)}
        known = {p: v for p, v in read.items() if v is not None and v < OPEN}
        if len(known) < 3:
            continue
        far = max(known, key=lambda p: known[p])
        tap = next(k for k in group if k not in far)
        halves = [v for p, v in known.items() if p != far]
        if abs(sum(halves) / known[far] - 1) < _ALIKE and abs(halves[0] / halves[1] - 1) < _ALIKE:
            taps.append(tap)
        else:
            text = f"Leads {', '.join(map(str, group))} read {', '.join(show(v, 'Ω') for v in known.values())}: no tap lies between two equal halves. Measure them again, probes touched together first."
            findings.append(Finding("caution", "halves-differ", text))
    complete = sorted(len(g) for g in groups) == wanted and (leads != 6 or len(taps) == 2)
    too_many = [g for g in groups if len(g) > max(wanted)]
    if too_many:
        text = f"Leads {', '.join(map(str, too_many[0]))} all conduct: more than one phase has. A winding shorted to another must not be powered."
        findings.append(Finding("stop", "phases-joined", text))
    between = [(a, b) for one, other in itertools.combinations(groups, 2) for a in one for b in other]
    short = sorted(k for g in groups if len(g) < min(wanted) or (leads == 6 and len(g) < 3) for k in g)
    if short and not complete and all(key_of(a, b) in ohms for a, b in between):
        text = f"Leads {', '.join(map(str, short))} conduct to nothing they should" if len(short) > 1 else f"Lead {short[0]} conducts to nothing"
        text += ": every pair has been read, so a winding, its lead or a crimp is broken. Do not power this motor."
        findings.append(Finding("stop", "winding-open", text))
    if complete and leads == 8:
        text = "The ohmmeter does not tell which two coils are one phase, nor which ends begin: connect two in series and turn the shaft; of the right pair the voltage doubles or vanishes, of a wrong one it does neither."
        findings.append(Finding("info", "halves-unknown", text))
    return LeadsFound(tuple(groups), tuple(sorted(taps)), tuple(findings), complete)


def read_leads(bench: Bench, first: int, second: int, ohms: float) -> Bench:
    """Return the bench with one reading between two leads; raises Refusal for a lead that is none or the same twice."""
    most = bench.settings.stepping.leads
    if first == second or not (1 <= first <= most and 1 <= second <= most):
        raise Refusal(f"a reading lies between two different leads, 1 to {most}", "choose two leads")
    if not (ohms >= 0 and math.isfinite(ohms)):
        raise Refusal(f"{ohms:g} Ω cannot be read on a meter", "type the reading again; an open circuit is OL")
    kept = {**bench.settings.stepping.ohms, key_of(first, second): min(ohms, 1e13)}
    return enter(bench, "stepping", {"ohms": dict(sorted(kept.items()))})
