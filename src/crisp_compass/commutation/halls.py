"""Hall table from halls and back-EMF of a turning shaft.

The back-EMF gives the electrical angle at every sample (:mod:`crisp_compass.identify.emf`); each hall edge is then an
angle. For every sensor the arc in which it reads 1 is found for positive rotation; the six arc ends divide the turn
into sectors, each with one code. Angles are averaged on the circle over all turns (median direction first, then the mean
of what lies near it), so single false edges do not move them; of a bouncing contact the first change
counts.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.capture.gaps import without_gaps
from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import BoolArray, Finding, FloatArray
from crisp_compass.identify.emf import EmfFit, fit_emf
from crisp_compass.identify.flux import voltages_of

#: Six-step pair → electrical angle of its current vector in degrees (A+B-: in at A, out at B).
PAIR_ANGLES = {"A+B-": -30.0, "A+C-": 30.0, "B+C-": 90.0, "B+A-": 150.0, "C+A-": 210.0, "C+B-": 270.0}


@dataclass(frozen=True)
class HallState:
    """One sector: centre and bounds in degrees of θe for positive rotation, and the pair for forward torque."""

    center_deg: float
    from_deg: float
    to_deg: float
    drive: str


@dataclass(frozen=True)
class HallTable:
    """The answer of the commutation leg.

    ``states`` maps the code (4·hall_1 + 2·hall_2 + hall_3) to its sector; ``edge_errors_deg`` are the six edges'
    distances from the best even grid, ``edge_u_deg`` their standard uncertainties, in order of rising θe.
    """

    spacing_deg: int
    direction: int
    states: dict[str, HallState]
    edge_errors_deg: tuple[float, ...]
    edge_u_deg: tuple[float, ...]
    method: str
    findings: tuple[Finding, ...]
    time: FloatArray
    theta: FloatArray
    codes: FloatArray

    def code_points(self, most: int = 4000) -> tuple[FloatArray, FloatArray]:
        """Return electrical angle [°] in 0…360 and code, thinned to ``most`` points, for a plot."""
        stride = max(1, len(self.theta) // most)
        return np.degrees(self.theta[::stride]) % 360, self.codes[::stride]

    @property
    def offset_deg(self) -> float:
        """Angle of the best even grid of edges, 0 ≤ offset < 60."""
        edges = sorted(s.from_deg for s in self.states.values())
        grid = [e - 60 * k for k, e in enumerate(edges)]
        return float(np.mean(grid)) % 60


@dataclass(frozen=True)
class _Edge:
    angle: float
    u: float
    hall: int
    rises: bool


@without_gaps
def read_halls(capture: Capture) -> HallTable:
    """Compute the hall table, all its angles in degrees of θe for positive rotation.

    Parameters
    ----------
    capture
        ``hall_1 hall_2 hall_3`` and at least two line (or phase) voltages; shaft turned by hand or coasting.

    Raises
    ------
    Refusal
        Missing or stuck channel, fewer than two voltages, less than one electrical turn, sensors that switch at the
        same place or not at all with the rotor.
    """
    halls = [capture[f"hall_{k}"] for k in (1, 2, 3)]
    for k, values in enumerate(halls, 1):
        if float(np.ptp(values)) == 0:
            raise Refusal(
                f"hall_{k} stays at {values[0]:.0f} throughout",
                "check its wire, supply and pull-up, and turn at least one electrical turn",
                where=capture.source,
            )
    voltages = voltages_of(capture)
    if len(voltages) < 2:
        there = f"only {next(iter(voltages))} is there" if voltages else "no line voltage is there"
        more = [v for v in ("v_ab", "v_bc", "v_ca") if v not in voltages][: 2 - len(voltages)]
        raise Refusal(
            f"{there}; {_order(halls)}",
            f"add {' and '.join(more)} for offset and direction",
            code="missing-signal",
            where=capture.source,
        )
    fit = fit_emf(capture.time, voltages, capture.source)
    findings = list(capture.findings)
    _check_geometry(fit, capture.source)
    theta = np.interp(capture.time, fit.time, fit.theta)
    omega = np.interp(capture.time, fit.time, fit.omega)
    inside = (capture.time >= fit.time[0]) & (capture.time <= fit.time[-1])
    edges = [e for k in range(3) for e in _arc(k, halls[k], theta, omega, inside=inside, source=capture.source)]
    states, errors, u = _sectors(edges, capture.source)
    codes = 4 * halls[0] + 2 * halls[1] + halls[2]
    seen = {int(c) for c in np.unique(codes)}
    spacing = 60 if {"0", "7"} & set(states) else 120
    _note_invalid(codes, states, findings)
    _note_borders(states, findings)
    travel = float(theta[-1] - theta[0])
    direction = 1 if travel > 0 else -1
    if float(np.sum(np.abs(np.diff(theta)))) > 1.3 * abs(travel):
        findings.append(
            Finding(
                "info",
                "direction-changed",
                "The shaft turned both ways; the direction given is that of the larger part.",
            )
        )
    worst = max(abs(e) for e in errors)
    if worst > 8:
        findings.append(
            Finding(
                "caution",
                "edges-uneven",
                f"One edge is {worst:.1f}° from its place: the sensors are mounted unevenly; torque ripples unless the edges are corrected.",
            )
        )
    turns = abs(travel) / (2 * math.pi)
    method = (
        f"{len(voltages)} line voltages and three halls over {turns:.1f} electrical turns; codes seen {sorted(seen)}"
    )
    return HallTable(spacing, direction, states, errors, edge_u_deg=u, method=method, findings=tuple(findings), time=capture.time, theta=theta, codes=codes)


def _check_geometry(fit: EmfFit, source: str) -> None:
    if not fit.vectorial:
        raise Refusal(
            "the voltages do not turn like a three-phase machine's",
            "check which lead each probe is on, and turn at least one electrical turn",
            where=source,
        )
    if float(np.max(np.abs(fit.phase_error))) > math.radians(12):
        raise Refusal(
            "the line voltages are not 120° apart",
            "one is reversed or on the wrong leads; map it with a minus sign (v_bc=-v_bc)",
            where=source,
        )


#: Samples within which a contact that has just switched may switch again.
_BOUNCE = 4


def debounced(values: FloatArray) -> FloatArray:
    """Return a 0/1 channel with each burst of changes replaced by its first where it ends elsewhere, by none where it does not.

    A contact bounces after it has touched, so the first change of a burst is the edge; interference returns to where it began.
    """
    state = values.copy()
    change = np.flatnonzero(np.diff(state)) + 1
    if len(change) < 2:
        return state
    lengths = np.diff(change)
    usual = float(np.quantile(lengths, 0.9))
    near = min(max(float(_BOUNCE), 0.03 * usual), 0.3 * usual)
    begins = np.concatenate([[True], lengths > near])
    for burst in np.split(change, np.flatnonzero(begins)[1:]):
        before, after = state[burst[0] - 1], values[burst[-1]]
        state[burst[0] : burst[-1] + 1] = after if after != before else before
    return state


def _order(halls: list[FloatArray]) -> str:
    """Say what the halls tell without a voltage: spacing, and the order of their codes."""
    clean = [debounced(h) for h in halls]
    codes = (4 * clean[0] + 2 * clean[1] + clean[2]).astype(int)
    changed = codes[np.concatenate([[True], np.diff(codes) != 0])]
    seen = list(dict.fromkeys(int(c) for c in changed))
    spacing = "60°" if {0, 7} & set(seen) else "120°"
    return f"the halls alone tell a spacing of {spacing} and the order {'-'.join(map(str, seen))}"


def _arc(
    hall: int, values: FloatArray, theta: FloatArray, omega: FloatArray, inside: BoolArray, source: str
) -> list[_Edge]:
    """Return the two edges of one sensor, as seen when turning in positive direction."""
    state = debounced(values)
    change = np.flatnonzero(np.diff(state)) + 1
    fast = np.abs(omega[change]) > 0.05 * float(np.max(np.abs(omega)))
    change = change[fast & inside[change] & inside[change - 1]]
    middle = 0.5 * (theta[change] + theta[change - 1])
    width = np.abs(theta[change] - theta[change - 1])
    forward = omega[change] > 0
    rises = (state[change] > state[change - 1]) == forward
    result = []
    for kind in (True, False):
        chosen = rises == kind
        if not chosen.any():
            raise Refusal(
                f"hall_{hall + 1} shows no {'rising' if kind else 'falling'} edge while the shaft turns",
                "turn at least one electrical turn",
                where=source,
            )
        angle, u, spread = _circular(middle[chosen], width[chosen])
        if spread > 20:
            raise Refusal(
                f"hall_{hall + 1} does not switch at the same electrical angle every time",
                "check its wiring, its supply and that the voltages come from the same motor",
                where=source,
            )
        result.append(_Edge(angle, u, hall, kind))
    return result


def _circular(angles: FloatArray, width: FloatArray) -> tuple[float, float, float]:
    """Return mean angle, its standard uncertainty and the spread, all in degrees; outliers are left out."""
    unit = np.exp(1j * angles)
    start = complex(np.median(unit.real), np.median(unit.imag))
    start = start / abs(start) if abs(start) > 0.1 else unit.mean()
    deviation = np.angle(unit / start)
    deviation = deviation - float(np.median(deviation)) if len(deviation) > 2 else deviation
    centre = np.angle(start) + (float(np.median(np.angle(unit / start))) if len(angles) > 2 else 0.0)
    limit = max(4 * float(np.median(np.abs(deviation))) / 0.6745, 2 * float(np.max(width)), math.radians(0.5))
    kept = np.abs(deviation) <= limit
    mean = float(centre + np.mean(deviation[kept]))
    # a few false edges anywhere are interference; many are another sensor
    spread = float(np.std(deviation[kept] if np.mean(kept) > 0.7 else deviation))
    n = int(kept.sum())
    u = math.sqrt(float(np.mean(width[kept] ** 2)) / 12 / n + (float(np.var(deviation[kept])) / n))
    return math.degrees(mean) % 360, math.degrees(u), math.degrees(spread)


def _sectors(edges: list[_Edge], source: str) -> tuple[dict[str, HallState], tuple[float, ...], tuple[float, ...]]:
    ordered = sorted(edges, key=lambda e: e.angle)
    arcs = {e.hall: [0.0, 0.0] for e in edges}
    for e in edges:
        arcs[e.hall][0 if e.rises else 1] = e.angle
    drives = _pairs([(e.angle, (ordered[(k + 1) % 6].angle - e.angle) % 360) for k, e in enumerate(ordered)])
    states: dict[str, HallState] = {}
    for k, edge in enumerate(ordered):
        to = ordered[(k + 1) % 6].angle
        width = (to - edge.angle) % 360
        center = (edge.angle + width / 2) % 360
        code = sum(
            weight
            for hall, weight in enumerate((4, 2, 1))
            if (center - arcs[hall][0]) % 360 < (arcs[hall][1] - arcs[hall][0]) % 360
        )
        if str(code) in states or width < 5:
            a, b = sorted({edge.hall + 1, ordered[(k + 1) % 6].hall + 1, ordered[k - 1].hall + 1})[:2]
            raise Refusal(
                f"hall_{a} and hall_{b} do not divide the turn into six sectors",
                "check whether two sensor wires are joined or one sensor is dead",
                where=source,
            )
        states[str(code)] = HallState(center, edge.angle, to, drives[k])
    grid = np.array([e.angle - 60 * k for k, e in enumerate(ordered)])
    errors = grid - float(np.mean(grid))
    return dict(sorted(states.items())), tuple(float(x) for x in errors), tuple(e.u for e in ordered)


def best_pair(center_deg: float) -> str:
    """Return the pair whose current vector lies nearest to 90° ahead of the sector's centre."""
    return min(PAIR_ANGLES, key=lambda pair: abs((PAIR_ANGLES[pair] - center_deg - 90 + 180) % 360 - 180))


def _pairs(sectors: list[tuple[float, float]]) -> list[str]:
    """Return a pair for each sector (begin, width) [°] in order of rising θe: each the nearest, and no pair twice.

    Where a centre lies near the middle between two pairs the nearest ones may coincide; then all six are turned on together to
    where they fit best.
    """
    centres = [begin + width / 2 for begin, width in sectors]
    nearest = [best_pair(c % 360) for c in centres]
    if len(set(nearest)) == 6:
        return nearest
    names = list(PAIR_ANGLES)

    def misfit(shift: int) -> float:
        off = [(PAIR_ANGLES[names[(k + shift) % 6]] - c - 90 + 180) % 360 - 180 for k, c in enumerate(centres)]
        return sum(x * x for x in off)

    best = min(range(6), key=misfit)
    return [names[(k + best) % 6] for k in range(6)]


#: Degrees from the middle between two pairs within which both are named.
_BORDER = 4.0


def _note_borders(states: dict[str, HallState], findings: list[Finding]) -> None:
    said = []
    for code, state in states.items():
        off = {p: abs((a - state.center_deg - 90 + 180) % 360 - 180) for p, a in PAIR_ANGLES.items()}
        first, second = sorted(off, key=lambda p: off[p])[:2]
        if off[second] - off[first] < 2 * _BORDER:
            said.append(f"code {code}: {first} or {second}")
    if said:
        text = f"The sensors sit midway between two pairs ({'; '.join(said)}): with either the torque falls to half at one edge of each sector instead of to 87 %; turning the sensors by 30° would mend it. Take all from one column: the table's, or the other throughout."
        findings.append(Finding("caution", "pair-on-border", text))


def _note_invalid(codes: FloatArray, states: dict[str, HallState], findings: list[Finding]) -> None:
    valid = np.isin(codes, [int(c) for c in states])
    share = 1 - float(np.mean(valid))
    if share > 0:
        others = ", ".join(str(int(c)) for c in np.unique(codes[~valid]))
        level = "caution" if share > 0.005 else "info"
        findings.append(
            Finding(
                "caution" if level == "caution" else "info",
                "invalid-codes",
                f"Code {others} shows in {100 * share:.2g} % of the samples, outside the six of the table: bounce or interference on the hall lines.",
            )
        )
