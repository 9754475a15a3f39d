"""An unknown sensor cable by elimination: readings in, roles out, with the reason and the next reading to take.

The order of work is common practice: find the grounds (the screen and the sensor's 0 V), then the supply with a limited
5 V, then the thermistor, then the channels; a channel that stays flat may be an open collector that wants a pull-up.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from crisp_compass.bench.models import Bench, CableWire
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show

ROLES = ("screen", "ground", "supply", "thermistor", "channel", "index")
#: Ω: below it is a connection, above the second it is open, between lies a component.
JOINED, OPEN = 5.0, 200e3
THERMISTOR = (80.0, 200e3)
SUPPLY_CURRENT = (2e-3, 60e-3)
FRAME = "frame"


@dataclass
class _Wire:
    name: str
    roles: set[str] = field(default_factory=lambda: set(ROLES))
    why: list[str] = field(default_factory=list)

    def only(self, role: str, why: str) -> None:
        self.roles &= {role}
        self.why.append(why)

    def strike(self, role: str, why: str) -> None:
        if role in self.roles and len(self.roles) > 1:
            self.roles.discard(role)
            self.why.append(why)


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
class CableAnswer:
    """Roles of all wires, the next reading, and whether everything is decided."""

    wires: tuple[WireRole, ...]
    next_reading: str
    complete: bool
    conflict: str = ""


def identify_cable(wires: tuple[CableWire, ...]) -> CableAnswer:
    """Reason from the readings on each wire. ``ohms`` may name other wires and ``frame``."""
    state = {w.name: _Wire(w.name) for w in wires}
    ohms = _symmetric(wires)
    _grounds(state, ohms)
    grounds = [n for n, w in state.items() if w.roles == {"ground"}]
    for wire in wires:
        _by_current(state[wire.name], wire)
        _by_scope(state[wire.name], wire)
    _by_ohms(state, ohms, grounds)
    _one_supply(state)
    _thermistor(state, wires, ohms, grounds)
    conflict = next((n for n, w in state.items() if not w.roles), "")
    if conflict:
        text = (
            f"The readings on {conflict} contradict each other ({'; '.join(state[conflict].why)}): take them again."
        )
        return CableAnswer(_roles(state), text, False, text)
    following = _next(state, wires, ohms, grounds)
    return CableAnswer(_roles(state), following, not following)


def _roles(state: dict[str, _Wire]) -> tuple[WireRole, ...]:
    return tuple(WireRole(n, tuple(r for r in ROLES if r in w.roles), tuple(w.why)) for n, w in state.items())


def _symmetric(wires: tuple[CableWire, ...]) -> dict[str, dict[str, float]]:
    ohms: dict[str, dict[str, float]] = {w.name: dict(w.ohms) for w in wires}
    for wire in wires:
        for other, value in wire.ohms.items():
            if other in ohms:
                ohms[other].setdefault(wire.name, value)
    return ohms


def _grounds(state: dict[str, _Wire], ohms: dict[str, dict[str, float]]) -> None:
    for name, wire in state.items():
        to_frame = ohms[name].get(FRAME)
        if to_frame is not None and to_frame < JOINED:
            wire.only("screen", f"{show(to_frame, 'Ω')} to the frame: the screen")
        elif to_frame is not None:
            wire.strike("screen", "not joined to the frame")
    # the sensor's 0 V sees components towards several wires; the wire with most of them is it
    partners = {
        n: sum(1 for o, r in row.items() if o != FRAME and o in state and JOINED <= r < OPEN)
        for n, row in ohms.items()
        if "ground" in state[n].roles
    }
    read = {n: sum(1 for o in row if o != FRAME) for n, row in ohms.items()}
    full = [n for n in partners if partners[n] >= 2 and read[n] >= max(len(state) - 2, 2)]
    if full:
        # paths between two other wires lead over it, so its own are the shortest
        sums = {
            n: sum(r for o, r in ohms[n].items() if o in state and JOINED <= r < OPEN) / partners[n] for n in full
        }
        best = min(full, key=lambda n: (-partners[n], sums[n]))
        rivals = [n for n in full if partners[n] == partners[best] and n != best and sums[n] < 1.05 * sums[best]]
        if not rivals:
            state[best].only("ground", f"the shortest paths to {partners[best]} other wires: the sensor's 0 V")
            for n, w in state.items():
                if n != best and ohms[n].get(best, OPEN) >= JOINED:
                    w.strike("ground", f"{best} is the 0 V")


def _by_current(wire: _Wire, reading: CableWire) -> None:
    current = reading.supply_current
    if current is None:
        return
    low, high = SUPPLY_CURRENT
    if low <= current <= high:
        wire.only(
            "supply", f"draws {show(current, 'A', 2)} at 5 V: the supply (18 to 19 mA is usual, common practice)"
        )
    elif current > high:
        wire.strike("supply", f"{show(current, 'A', 2)} at 5 V is a short, not a supply")
    else:
        wire.strike("supply", "draws next to nothing at 5 V")


def _by_scope(wire: _Wire, reading: CableWire) -> None:
    shape = reading.scope
    if shape in ("square", "square-with-pull-up"):
        pulled = " with a pull-up: an open collector" if shape == "square-with-pull-up" else ""
        wire.only("channel", f"square wave while the shaft turns{pulled}: a channel")
    elif shape == "pulse":
        wire.only("index", "one short pulse a turn: the index")
    elif shape == "sine":
        wire.only("channel", "sine while the shaft turns: an analogue channel")
    elif shape == "flat":
        wire.why.append("flat on the scope: no channel, or an open collector that wants a pull-up")


def _by_ohms(state: dict[str, _Wire], ohms: dict[str, dict[str, float]], grounds: list[str]) -> None:
    for name, wire in state.items():
        if len(wire.roles) == 1:
            continue
        for ground in grounds:
            r = ohms[name].get(ground)
            if r is None:
                continue
            if r >= OPEN:
                if wire.roles & {"supply", "thermistor"}:
                    wire.why.append(f"open to {ground}: neither supply nor thermistor")
                    wire.roles -= {"supply", "thermistor"}
            elif r < JOINED:
                wire.only("ground", f"{show(r, 'Ω')} to {ground}: a second ground")
            elif not THERMISTOR[0] <= r:
                wire.strike("thermistor", f"{show(r, 'Ω')} to {ground} is too little for a thermistor")


def _one_supply(state: dict[str, _Wire]) -> None:
    """There is one supply and at most one thermistor; who cannot be anything else takes what is left."""
    supplies = [n for n, w in state.items() if w.roles == {"supply"}]
    if supplies:
        for n, w in state.items():
            if n not in supplies:
                w.strike("supply", f"{supplies[0]} is the supply")
    else:
        possible = [n for n, w in state.items() if "supply" in w.roles]
        grounded = any(w.roles == {"ground"} for w in state.values())
        if len(possible) == 1 and grounded:
            state[possible[0]].only("supply", "the only wire left that can be the supply")
    squares = sum(1 for w in state.values() if w.roles == {"channel"})
    for w in state.values():
        if squares >= 3 and w.roles != {"channel"}:
            w.strike("channel", "three channels are known")


def _thermistor(
    state: dict[str, _Wire], wires: tuple[CableWire, ...], ohms: dict[str, dict[str, float]], grounds: list[str]
) -> None:
    """A resistor to the ground that is not the supply and shows nothing while the shaft turns."""
    for reading in wires:
        wire = state[reading.name]
        paths = [ohms[reading.name][g] for g in grounds if g in ohms[reading.name]]
        inside = [r for r in paths if THERMISTOR[0] <= r < THERMISTOR[1]]
        if inside and reading.scope == "flat" and "thermistor" in wire.roles and "supply" not in wire.roles:
            wire.only(
                "thermistor", f"{show(inside[0], 'Ω')} to the ground and flat while the shaft turns: the thermistor"
            )


def _next(
    state: dict[str, _Wire], wires: tuple[CableWire, ...], ohms: dict[str, dict[str, float]], grounds: list[str]
) -> str:
    if len(wires) < 3:
        return "Enter every wire of the cable by its colour: at least ground, supply and one channel."
    frameless = [w.name for w in wires if FRAME not in ohms[w.name]]
    if frameless:
        return f"Measure from {frameless[0]} to the motor's frame: about zero would make it the screen."
    if not grounds:
        names = [w.name for w in wires if state[w.name].roles != {"screen"}]
        for a in names:
            for b in names:
                if a < b and b not in ohms[a]:
                    return f"Measure between {a} and {b}; the wire with the shortest paths to the others is the sensor's 0 V."
        return "No wire shows components towards the others: reverse the probes (diodes) and read again, or the sensor is dead."
    ground = grounds[0]
    for w in wires:
        if len(state[w.name].roles) > 1 and ground not in ohms[w.name]:
            return f"Measure from {w.name} to {ground}: open speaks for a channel, kilohms for supply or thermistor."
    supply = [n for n, w in state.items() if w.roles == {"supply"}]
    by_name = {w.name: w for w in wires}
    if not supply:
        candidates = [n for n, w in state.items() if "supply" in w.roles and by_name[n].supply_current is None]
        if candidates:
            best = min(candidates, key=lambda n: ohms[n].get(ground, OPEN))
            return f"Set the bench supply to 5 V and 20 mA, minus on {ground}, plus on {best}; read the current. Stop at once if it goes into its limit."
        return (
            "No wire draws a supply's current: the sensor is dead, or it runs on another voltage; look for its data."
        )
    for n, left in state.items():
        shape = by_name[n].scope
        if len(left.roles) > 1 and not shape:
            return f"With 5 V on {supply[0]}, look at {n} on the scope while you turn the shaft by hand."
        if len(left.roles) > 1 and shape == "flat" and "thermistor" not in left.roles:
            return f"Put 4.7 kΩ from {n} to {supply[0]} and look again: an open collector needs the pull-up."
        if len(left.roles) > 1 and shape == "flat" and ohms[n].get(ground, OPEN) >= OPEN:
            return f"Put 4.7 kΩ from {n} to {supply[0]} and look again: an open collector needs the pull-up."
    return ""


def set_reading(
    bench: Bench,
    name: str,
    *,
    other: str = "",
    ohms: float | None = None,
    current: float | None = None,
    scope: str | None = None,
) -> Bench:
    """Return the bench with one reading on one wire added; unknown wires are made.

    Raises Refusal for a negative reading or a wire measured against itself.
    """
    wires = {w.name: w for w in bench.cable}
    wire = wires.get(name, CableWire(name=name))
    if other and other == name:
        raise Refusal("a wire is not measured against itself", "choose two wires")
    for value in (ohms, current):
        if value is not None and value < 0:
            raise Refusal("a meter shows no negative resistance or current here", "swap the probes and read again")
    if other and ohms is not None:
        wire = wire.model_copy(update={"ohms": {**wire.ohms, other: min(ohms, 1e12)}})
    if current is not None:
        wire = wire.model_copy(update={"supply_current": current})
    if scope is not None:
        wire = wire.model_copy(update={"scope": scope})
    wires[name] = wire
    return bench.model_copy(update={"cable": tuple(wires.values())})


def drop_wire(bench: Bench, name: str) -> Bench:
    """Return the bench without a wire and without what was measured against it."""
    kept = [
        w.model_copy(update={"ohms": {k: v for k, v in w.ohms.items() if k != name}})
        for w in bench.cable
        if w.name != name
    ]
    return bench.model_copy(update={"cable": tuple(kept)})
