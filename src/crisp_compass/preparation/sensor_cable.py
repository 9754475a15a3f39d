"""An unknown sensor cable: readings in, roles out, with the reason and the next reading to take.

Nothing is decided by one reading: any may be wrong (a slipped probe, the wrong wire noted). The roles of all wires at once that
make all readings likeliest are searched (``cable_roles``); a wire is decided where every assignment that gives it another role is
much less likely, by far more where it is to be fed. Wires that are joined inside (several 0 V, a 0 V on the screen) share
their role through readings that say so. A role known from elsewhere is taken as it is.

Polarity comes from the chips' own protection diodes, which conduct from the 0 V towards supply and outputs, and from outputs
towards the supply (diode test; common practice). Resistances alone do not tell it: pull-ups make the supply look like the 0 V.
"""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CableAgain, CableWire
from crisp_compass.errors import Refusal
from crisp_compass.preparation.cable_roles import (
    FRAME,
    JOINED,
    ROLES,
    Ask,
    Readings,
    Roles,
    diode_class,
)
from crisp_compass.quantities import counted, show

__all__ = ["FRAME", "ROLE_NAMES", "CableAnswer", "drop_wire", "identify_cable", "set_reading"]
ROLE_NAMES = {
    "screen": "screen", "ground": "0 V", "supply": "supply", "thermistor": "thermistor", "channel": "channel", "index": "index",
}  # fmt: skip
#: Wires that are weighed at once.
_MOST = 40
_SAID = {
    "square": "square wave while the shaft turns", "square-with-pull-up": "square wave with a pull-up: an open collector",
    "opposite": "the opposite of another channel", "sine": "sine while the shaft turns", "pulse": "one short pulse a turn", "flat": "flat on the scope",
}  # fmt: skip


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
    """Roles of all wires, the next reading, whether everything is decided, the feed where its polarity is certain, and the readings
    that all others speak against."""

    wires: tuple[WireRole, ...]
    next_reading: str
    complete: bool
    conflict: str = ""
    feed: Feed | None = None
    doubtful: str = ""


def identify_cable(wires: tuple[CableWire, ...]) -> CableAnswer:
    """Reason from the readings on each wire. ``ohms`` may name other wires and ``frame``; ``known`` roles stand."""
    if not 3 <= len(wires) <= _MOST:
        text = (
            "Enter every wire of the cable by its colour: at least 0 V, supply and one channel."
            if len(wires) < 3
            else f"More than {_MOST} wires: read the cable connector by connector, each on a bench of its own."
        )
        return CableAnswer(tuple(WireRole(w.name, (w.known,) if w.known else ROLES, ()) for w in wires), text, False)
    readings = Readings(wires)
    found = Roles(wires, readings)
    left = {w.name: found.left(k) for k, w in enumerate(wires)}
    roles = {name: r[0] if len(r) == 1 else "" for name, r in left.items()}
    conflict = _conflict(wires, readings, roles)
    grounds, supplies = ([n for n, r in roles.items() if r == role] for role in ("ground", "supply"))
    feed = Feed(grounds[0], supplies[0]) if grounds and supplies and not conflict else None
    undecided = [n for n, r in roles.items() if not r]
    following = conflict or (_next(readings, undecided, found, feed) if undecided else "")
    said = tuple(WireRole(w.name, left[w.name], _reasons(w, readings, wires)) for w in wires)
    return CableAnswer(said, following, not undecided and not conflict, conflict, feed=feed, doubtful=_doubtful(readings, found))


def _reasons(wire: CableWire, readings: Readings, wires: tuple[CableWire, ...]) -> tuple[str, ...]:
    """Return what was read at one wire in words, the most telling first."""
    if wire.known:
        return ("known from elsewhere",)
    said = []
    if any(r < JOINED for r in readings.ohms.get(frozenset((wire.name, FRAME)), [])):
        said.append("on the motor's frame")
    others = [w.name for w in wires if w.name != wire.name]
    out = sum(any(diode_class(v) == 1 for v in readings.diode.get((wire.name, o), [])) for o in others)
    into = sum(any(diode_class(v) == 1 for v in readings.diode.get((o, wire.name), [])) for o in others)
    if out or into:
        said.append(f"diodes lead from it to {counted(out, 'other')}, to it from {into}")
    joined = [o for o in others if any(r < JOINED for r in readings.ohms.get(frozenset((wire.name, o)), []))]
    if joined:
        said.append(f"joined to {', '.join(joined)}")
    said += [_SAID[s] for s in dict.fromkeys(readings.scope.get(wire.name, []))]
    said += [f"draws {show(i, 'A', 2)} at 5 V" for i in readings.current.get(wire.name, [])]
    return tuple(said)


def _conflict(wires: tuple[CableWire, ...], readings: Readings, roles: dict[str, str]) -> str:
    """Name two wires that are 0 V and supply and were read as joined, or whose entered roles the diodes speak against."""
    for a in wires:
        for b in wires:
            if roles[a.name] == "ground" and roles[b.name] == "supply":
                ohms = readings.ohms.get(frozenset((a.name, b.name)), [])
                there = [diode_class(v) for v in readings.diode.get((a.name, b.name), [])]
                back = [diode_class(v) for v in readings.diode.get((b.name, a.name), [])]
                if sum(r < JOINED for r in ohms) > 0.5 * len(ohms) or (
                    back.count(1) > back.count(2) and there.count(2) > there.count(1)
                ):
                    return f"{a.name} and {b.name} cannot be 0 V and supply by what was read between them: read them again, and feed nothing."
    return ""


def _next(readings: Readings, undecided: list[str], found: Roles, feed: Feed | None) -> str:
    """Return the reading that tells most of what is still open, as a sentence."""
    if feed is not None and not readings.current.get(feed.plus):
        return (
            f"Set the bench supply to 5 V with a current limit of 50 mA, minus on {feed.minus}, plus on {feed.plus}; read the current. "
            "Stop at once if it goes into its limit."
        )
    ask = found.following(fed=feed is not None)
    if ask is not None:
        return _asked(ask, readings, feed)
    if feed is None:
        return (
            "The readings do not tell 0 V and supply apart surely enough to feed anything: read again what is doubted, "
            "or enter the roles that a drawing or the drive's terminals give."
        )
    return f"Not decided by readings: {', '.join(undecided)}. Enter the role where a drawing tells it, or leave the wire isolated."


def _asked(ask: Ask, readings: Readings, feed: Feed | None) -> str:
    """Return the sentence that asks for a reading."""
    if ask.kind == "diode":
        return f"Diode test with nothing fed: red probe on {ask.first}, black on {ask.second}."
    if ask.second == FRAME:
        again = " once more, probes exchanged" if ask.taken else ""
        return f"Measure from {ask.first} to the motor's frame{again}: about zero would make it the screen."
    if ask.kind == "ohms":
        return f"Measure between {ask.first} and {ask.second}{' once more' if ask.taken else ''}."
    plus = feed.plus if feed else ""
    shapes = readings.scope.get(ask.first, [])
    if shapes and shapes.count("flat") == len(shapes):
        return f"Put some kilohms from {ask.first} to {plus} and look again: an open collector needs the pull-up."
    return f"With 5 V on {plus}, look at {ask.first} on the scope while you turn the shaft by hand{' once more' if ask.taken else ''}."


def _doubtful(readings: Readings, found: Roles) -> str:
    """Name the readings that all others speak against: likelier a slipped probe than a cable; empty where there is none."""
    doubted = []
    for pair, values in readings.ohms.items():
        a, b = sorted(pair, key=lambda n: n == FRAME)
        if {a, b} <= {*found.names, FRAME}:
            doubted += [f"{a}–{b} {show(v, 'Ω')}" for v in values if found.against("ohms", a, b, v)]
    for (a, b), values in readings.diode.items():
        if {a, b} <= set(found.names):
            shown = [v for v in values if found.against("diode", a, b, v)]
            doubted += [f"diode {a} to {b} {'blocks' if diode_class(v) == 2 else show(v, 'V', 2)}" for v in shown]
    if not doubted:
        return ""
    return f"All else speaks against {' and '.join(doubted[:2])}: read {'it' if len(doubted) == 1 else 'them'} again."


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
