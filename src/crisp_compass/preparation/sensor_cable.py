"""An unknown sensor cable: readings in, roles out, with the reason and the next reading to take.

Nothing is decided by one reading: any may be wrong (a slipped probe, the wrong wire noted). Each reading is a vote: how likely
is it if its two wires have these roles, one in eight being wrong? The assignment of roles to all wires at once that makes all
readings likeliest is searched; a wire is decided where every assignment that gives it another role is at least e^10 times less
likely, and a feed is proposed where 0 V and supply are. Wires that are joined inside (several 0 V, a 0 V on the screen) share
their role through readings that say so. A role known from elsewhere is taken as it is.

Polarity comes from the chips' own protection diodes, which conduct from the 0 V towards supply and outputs, and from outputs
towards the supply (diode test; common practice). Resistances alone do not tell it: pull-ups make the supply look like the 0 V.
"""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CableAgain, CableWire
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.quantities import show

ROLES = ("screen", "ground", "supply", "thermistor", "channel", "index")
ROLE_NAMES = {
    "screen": "screen", "ground": "0 V", "supply": "supply", "thermistor": "thermistor", "channel": "channel", "index": "index",
}  # fmt: skip
#: Ω: below it is a connection, above the second it is open, between lies a component.
JOINED, OPEN = 5.0, 200e3
#: V: a junction in the meter's diode test; above it blocks.
DIODE = (0.15, 1.2)
SUPPLY_CURRENT = (2e-3, 60e-3)
FRAME = "frame"
#: Log odds that decide, and the share of readings taken to be wrong.
DECISIVE, WRONG = 10.0, 0.12
#: Looks at the scope that are asked for, and repeats of one meter reading.
_LOOKS, _REPEATS = 6, 4


@dataclass(frozen=True)
class WireRole:
    """One wire with the roles still possible and why."""

    name: str
    roles: tuple[str, ...]
    reasons: tuple[str, ...]

    @property
    def role(self) -> str:
        """The role if it is decided, else empty."""
        return self.roles[0] if len(self.roles) == 1 else ""


@dataclass(frozen=True)
class Feed:
    """Where 5 V may be put: ``minus`` on a 0 V wire, ``plus`` on the supply wire."""

    minus: str
    plus: str


@dataclass(frozen=True)
class CableAnswer:
    """Roles of all wires, the next reading, whether everything is decided, and the feed where its polarity is certain."""

    wires: tuple[WireRole, ...]
    next_reading: str
    complete: bool
    conflict: str = ""
    feed: Feed | None = None


# Roles inside: G 0 V, S supply, C channel, I index, T thermistor with a return of its own, H thermistor to the 0 V, X screen;
# F is the motor's frame. Chances of (joined, component, open) for two wires, and of (joined, conducts, blocks) for the diode
# test from the first to the second; what stands in no table is open and blocks.
_KINDS = "GSCITHXF"
_ROLE_OF = {
    "G": "ground",
    "S": "supply",
    "C": "channel",
    "I": "index",
    "T": "thermistor",
    "H": "thermistor",
    "X": "screen",
}
_OHMS = {
    "GG": (1, 0, 0), "SS": (1, 0, 0), "XX": (0.9, 0, 0.1), "XF": (1, 0, 0), "GF": (0.2, 0, 0.8), "GX": (0.2, 0, 0.8), "GS": (0, 1, 0),
    "GC": (0, 0.6, 0.4), "SC": (0, 0.6, 0.4), "CC": (0, 0.5, 0.5), "TT": (0, 0.6, 0.4), "GH": (0, 0.97, 0.03), "SH": (0, 0.9, 0.1), "CH": (0, 0.6, 0.4),
    "HH": (0, 0.5, 0.5),
}  # fmt: skip
_DIODE = {
    "GG": (1, 0, 0), "SS": (1, 0, 0), "XX": (0.9, 0, 0.1), "GX": (0.2, 0, 0.8), "XG": (0.2, 0, 0.8), "GS": (0, 0.97, 0.03), "SG": (0, 0.15, 0.85),
    "GC": (0, 0.97, 0.03), "CG": (0, 0.1, 0.9), "CS": (0, 0.5, 0.5), "SC": (0, 0.12, 0.88), "CC": (0, 0.05, 0.95), "TT": (0, 0.15, 0.85),
    "GH": (0, 0.15, 0.85), "HG": (0, 0.15, 0.85), "SH": (0, 0.1, 0.9), "HS": (0, 0.1, 0.9),
}  # fmt: skip
_SHAPES = ("flat", "square", "square-with-pull-up", "opposite", "pulse", "sine")
_SCOPE = {"C": (0.3, 0.3, 0.3, 0.05, 0, 0.05), "I": (0.3, 0, 0, 0, 0.7, 0)}
#: A picture on the scope is taken wrong less often than a probe slips.
_WRONG_LOOK = 0.06
_IDLE = (0.985, 0.005, 0.005, 0, 0.005, 0)
_SAID = {
    "square": "square wave while the shaft turns", "square-with-pull-up": "square wave with a pull-up: an open collector",
    "opposite": "the opposite of another channel", "sine": "sine while the shaft turns", "pulse": "one short pulse a turn", "flat": "flat on the scope",
}  # fmt: skip


def _table(chances: dict[str, tuple[float, float, float]], *, ordered: bool) -> FloatArray:
    """Return log chances (8, 8, 3) of a reading between two roles, wrong ones mixed in."""
    table = np.zeros((len(_KINDS), len(_KINDS), 3))
    for i, first in enumerate(_KINDS.replace("I", "C")):
        for j, second in enumerate(_KINDS.replace("I", "C")):
            entry = chances.get(first + second) or (None if ordered else chances.get(second + first)) or (0, 0, 1)
            table[i, j] = [math.log((1 - WRONG) * p + WRONG / 3) for p in entry]
    return table


_LOG_OHMS, _LOG_DIODE = _table(_OHMS, ordered=False), _table(_DIODE, ordered=True)


def _ohm_class(r: float) -> int:
    return 0 if r < JOINED else 1 if r < OPEN else 2


def _diode_class(v: float) -> int:
    return 0 if v < DIODE[0] else 1 if v < DIODE[1] else 2


class _Readings:
    """All readings by unordered pair (ohms), ordered pair (diode, red probe first) and wire (current, scope)."""

    def __init__(self, wires: tuple[CableWire, ...]) -> None:
        self.ohms: dict[frozenset[str], list[float]] = defaultdict(list)
        self.diode: dict[tuple[str, str], list[float]] = defaultdict(list)
        self.current: dict[str, list[float]] = defaultdict(list)
        self.scope: dict[str, list[str]] = defaultdict(list)
        for wire in wires:
            for other, value in wire.ohms.items():
                self.ohms[frozenset((wire.name, other))].append(value)
            for other, value in wire.diode.items():
                self.diode[wire.name, other].append(value)
            if wire.supply_current is not None:
                self.current[wire.name].append(wire.supply_current)
            if wire.scope:
                self.scope[wire.name].append(wire.scope)
            for again in wire.again:
                if again.kind == "ohms":
                    self.ohms[frozenset((wire.name, again.other))].append(again.value)
                elif again.kind == "diode":
                    self.diode[wire.name, again.other].append(again.value)
                elif again.kind == "current":
                    self.current[wire.name].append(again.value)
                else:
                    self.scope[wire.name].append(again.shape)


class _Votes:
    """Log chances of everything read: ``pair`` (n, n, 8, 8) between wires, ``alone`` (n, 8) of each by itself."""

    def __init__(self, wires: tuple[CableWire, ...], readings: _Readings) -> None:
        self.names = [w.name for w in wires]
        n, at = len(self.names), {name: k for k, name in enumerate(self.names)}
        self.pair = np.zeros((n, n, len(_KINDS), len(_KINDS)))
        self.alone = np.zeros((n, len(_KINDS)))
        self.alone[:, _KINDS.index("F")] = -1e9
        for pair, values in readings.ohms.items():
            inside = [at[x] for x in pair if x in at]
            for value in values:
                table = _LOG_OHMS[:, :, _ohm_class(value)]
                if len(inside) == 2:
                    a, b = inside
                    self.pair[a, b] += table
                    self.pair[b, a] += table.T
                elif FRAME in pair and inside:
                    self.alone[inside[0]] += table[:, _KINDS.index("F")]
        for (first, second), values in readings.diode.items():
            if first in at and second in at:
                for value in values:
                    table = _LOG_DIODE[:, :, _diode_class(value)]
                    self.pair[at[first], at[second]] += table
                    self.pair[at[second], at[first]] += table.T
        for name, shapes in readings.scope.items():
            for shape in shapes:
                k = _SHAPES.index(shape)
                self.alone[at[name]] += [
                    math.log((1 - _WRONG_LOOK) * _SCOPE.get(r, _IDLE)[k] + _WRONG_LOOK / 6) for r in _KINDS
                ]
        low, high = SUPPLY_CURRENT
        for name, currents in readings.current.items():
            for current in currents:
                drawn = low <= current <= high
                self.alone[at[name]] += [math.log(0.85 if drawn == (r == "S") else 0.15) for r in _KINDS]
        for k, wire in enumerate(wires):
            if wire.known:
                self.alone[k] += [0.0 if _ROLE_OF.get(r) == wire.known else -1e6 for r in _KINDS]

    def search(self) -> tuple[FloatArray, list[int]]:
        """Return for every wire and role the best log chance of any assignment with it (n, 8), and the best assignment.

        Started from every choice of one 0 V and one supply, each wire in turn takes the role that suits all others best.
        """
        n, kinds = len(self.names), len(_KINDS)
        starts = [(g, s) for g in range(n) for s in range(n) if g != s] or [(0, 0)]
        roles = np.full((len(starts), n), _KINDS.index("C"))
        held = np.zeros((len(starts), n), dtype=bool)
        for h, (g, s) in enumerate(starts):
            roles[h, s], roles[h, g] = _KINDS.index("S"), _KINDS.index("G")
            held[h, [g, s]] = True
        rows = np.arange(n)
        for sweep in range(4):
            for k in range(n):
                fresh = self._scores(roles, k).argmax(axis=1)
                keep = held[:, k] if sweep < 3 else np.zeros(len(starts), dtype=bool)
                roles[:, k] = np.where(keep, roles[:, k], fresh)
        best = np.full((n, kinds), -np.inf)
        totals = np.zeros(len(starts))
        for k in range(n):
            totals += self.alone[k, roles[:, k]] + 0.5 * self.pair[k, rows, roles[:, k][:, None], roles].sum(axis=1)
        for k in range(n):
            scores = self._scores(roles, k)
            now = np.take_along_axis(scores, roles[:, k][:, None], axis=1)
            best[k] = (totals[:, None] - now + scores).max(axis=0)
        return best, [int(x) for x in roles[int(totals.argmax())]]

    def _scores(self, roles: FloatArray, k: int) -> FloatArray:
        """Return the log chance of wire k in every role, the others as they are, (hypotheses, 8)."""
        n = len(self.names)
        others = self.pair[k, np.arange(n)[None, :], :, roles]  # (hypotheses, n, 8)
        return np.asarray(others.sum(axis=1) + self.alone[k])


def identify_cable(wires: tuple[CableWire, ...]) -> CableAnswer:
    """Reason from the readings on each wire. ``ohms`` may name other wires and ``frame``; ``known`` roles stand."""
    if len(wires) < 3:
        text = "Enter every wire of the cable by its colour: at least 0 V, supply and one channel."
        return CableAnswer(tuple(WireRole(w.name, (w.known,) if w.known else ROLES, ()) for w in wires), text, False)
    readings = _Readings(wires)
    votes = _Votes(wires, readings)
    best, guess = votes.search()
    found, roles = [], {}
    for k, wire in enumerate(wires):
        by_role = {role: max(best[k, _KINDS.index(r)] for r in _KINDS if _ROLE_OF.get(r) == role) for role in ROLES}
        top = max(by_role, key=lambda r: by_role[r])
        left = tuple(r for r in ROLES if by_role[r] > by_role[top] - DECISIVE)
        roles[wire.name] = left[0] if len(left) == 1 else ""
        found.append(WireRole(wire.name, left, _reasons(wire, readings, wires, roles)))
    conflict = _conflict(wires, readings, roles)
    grounds, supplies = ([n for n, r in roles.items() if r == role] for role in ("ground", "supply"))
    feed = Feed(grounds[0], supplies[0]) if grounds and supplies and not conflict else None
    undecided = [n for n, r in roles.items() if not r]
    following = conflict or (_next(wires, readings, roles, [_KINDS[x] for x in guess], feed) if undecided else "")
    return CableAnswer(tuple(found), following, not undecided and not conflict, conflict, feed)


def _reasons(
    wire: CableWire, readings: _Readings, wires: tuple[CableWire, ...], roles: dict[str, str]
) -> tuple[str, ...]:
    """Return what was read at one wire in words, the most telling first."""
    if wire.known:
        return ("known from elsewhere",)
    said = []
    if any(r < JOINED for r in readings.ohms.get(frozenset((wire.name, FRAME)), [])):
        said.append("on the motor's frame")
    others = [w.name for w in wires if w.name != wire.name]
    out = sum(any(_diode_class(v) == 1 for v in readings.diode.get((wire.name, o), [])) for o in others)
    into = sum(any(_diode_class(v) == 1 for v in readings.diode.get((o, wire.name), [])) for o in others)
    if out or into:
        said.append(f"diodes lead from it to {out} and to it from {into} others")
    joined = [o for o in others if any(r < JOINED for r in readings.ohms.get(frozenset((wire.name, o)), []))]
    if joined:
        said.append(f"joined to {', '.join(joined)}")
    said += [_SAID[s] for s in dict.fromkeys(readings.scope.get(wire.name, []))]
    said += [f"draws {show(i, 'A', 2)} at 5 V" for i in readings.current.get(wire.name, [])]
    return tuple(said)


def _conflict(wires: tuple[CableWire, ...], readings: _Readings, roles: dict[str, str]) -> str:
    """Name two wires that are 0 V and supply and were read as joined, or whose entered roles the diodes speak against."""
    for a in wires:
        for b in wires:
            if roles[a.name] == "ground" and roles[b.name] == "supply":
                ohms = readings.ohms.get(frozenset((a.name, b.name)), [])
                there = [_diode_class(v) for v in readings.diode.get((a.name, b.name), [])]
                back = [_diode_class(v) for v in readings.diode.get((b.name, a.name), [])]
                if sum(r < JOINED for r in ohms) > 0.5 * len(ohms) or (
                    back.count(1) > back.count(2) and there.count(2) > there.count(1)
                ):
                    return f"{a.name} and {b.name} cannot be 0 V and supply by what was read between them: read them again, and feed nothing."
    return ""


def _next(
    wires: tuple[CableWire, ...], readings: _Readings, roles: dict[str, str], guess: list[str], feed: Feed | None
) -> str:
    """Return the reading that tells most of what is still open: the least often taken between a doubtful wire and the likely 0 V
    or supply."""
    names = [w.name for w in wires]
    open_ = [n for n in names if not roles[n]]
    for n in names:
        taken = readings.ohms.get(frozenset((n, FRAME)), [])
        if not taken:
            return f"Measure from {n} to the motor's frame: about zero would make it the screen."
        if n in open_ and any(r < JOINED for r in taken) and len(taken) < _REPEATS:
            return f"Measure from {n} to the motor's frame once more, probes exchanged: one reading decides nothing."
    likely = {r: [n for n, g in zip(names, guess, strict=True) if g == r] for r in "GS"}
    ends = [*likely["G"][:1], *likely["S"][:1]]
    asks: list[tuple[int, int, str]] = []
    rank = {n: 0 if n in ends else 1 for n in names}
    for n in open_:
        for other in ends if n not in ends else [x for x in names if roles[x] not in ("screen", "thermistor")]:
            if other == n:
                continue
            for a, b in ((other, n), (n, other)):
                count = len(readings.diode.get((a, b), []))
                asks.append((count, rank[n], f"Diode test with nothing fed: red probe on {a}, black on {b}."))
            count = len(readings.ohms.get(frozenset((n, other)), []))
            asks.append((count, rank[n] + 1, f"Measure between {n} and {other}{' once more' if count else ''}."))
    asks.sort(key=lambda x: x[:2])
    if asks and asks[0][0] < (1 if feed else _REPEATS):
        return asks[0][2]
    if feed is None:
        return (
            "The readings do not tell 0 V and supply apart surely enough to feed anything: repeat diode tests that disagree, "
            "or enter the roles that a drawing or the drive's terminals give."
        )
    if not readings.current.get(feed.plus):
        return (
            f"Set the bench supply to 5 V with a current limit of 50 mA, minus on {feed.minus}, plus on {feed.plus}; read the current. "
            "Stop at once if it goes into its limit."
        )
    for n in sorted(open_, key=lambda x: len(readings.scope.get(x, []))):
        shapes = readings.scope.get(n, [])
        if len(shapes) >= _LOOKS:
            continue
        if shapes.count("flat") >= 2 and shapes.count("flat") == len(shapes) and roles[n] != "thermistor":
            return f"Put some kilohms from {n} to {feed.plus} and look again: an open collector needs the pull-up."
        return f"With 5 V on {feed.plus}, look at {n} on the scope while you turn the shaft by hand{' once more' if shapes else ''}."
    for n in open_:
        for other in names:
            count = len(readings.ohms.get(frozenset((n, other)), []))
            if n != other and count < 2:
                return f"Measure between {n} and {other}{' once more' if count else ''}."
    if asks and asks[0][0] < _REPEATS:
        return asks[0][2]
    return f"Not decided by readings: {', '.join(open_)}. Enter the role where a drawing tells it, or leave the wire isolated."


def set_reading(
    bench: Bench,
    name: str,
    *,
    other: str = "",
    ohms: float | None = None,
    diode: float | None = None,
    current: float | None = None,
    scope: str | None = None,
    known: str | None = None,
) -> Bench:
    """Return the bench with one reading on one wire added; unknown wires are made. A second reading of the same is kept beside
    the first.

    ``diode`` is the diode test's voltage with the red probe on this wire and the black one on ``other`` (1e12: blocks).
    Raises Refusal for a negative reading or a wire measured against itself.
    """
    wires = {w.name: w for w in bench.cable}
    wire = wires.get(name, CableWire(name=name))
    if other and other == name:
        raise Refusal("a wire is not measured against itself", "choose two wires")
    for value in (ohms, diode, current):
        if value is not None and value < 0:
            raise Refusal("a meter shows no negative reading here", "exchange the probes and read again")
    again = list(wire.again)
    changes: dict[str, object] = {}
    if other and ohms is not None:
        if other in wire.ohms:
            again.append(CableAgain(kind="ohms", other=other, value=min(ohms, 1e12)))
        else:
            changes["ohms"] = {**wire.ohms, other: min(ohms, 1e12)}
    if other and diode is not None:
        if other in wire.diode:
            again.append(CableAgain(kind="diode", other=other, value=min(diode, 1e12)))
        else:
            changes["diode"] = {**wire.diode, other: min(diode, 1e12)}
    if current is not None:
        if wire.supply_current is not None:
            again.append(CableAgain(kind="current", value=current))
        else:
            changes["supply_current"] = current
    if scope:
        if wire.scope:
            again.append(CableAgain(kind="scope", shape=scope))  # type: ignore[arg-type]
        else:
            changes["scope"] = scope
    if known is not None:
        changes["known"] = known
    wires[name] = wire.model_copy(update={**changes, "again": tuple(again)})
    return bench.model_copy(update={"cable": tuple(wires.values())})


def drop_wire(bench: Bench, name: str) -> Bench:
    """Return the bench without a wire and without what was measured against it."""
    kept = [
        w.model_copy(
            update={
                "ohms": {k: v for k, v in w.ohms.items() if k != name},
                "diode": {k: v for k, v in w.diode.items() if k != name},
                "again": tuple(x for x in w.again if x.other != name),
            }
        )
        for w in bench.cable
        if w.name != name
    ]
    return bench.model_copy(update={"cable": tuple(kept)})
