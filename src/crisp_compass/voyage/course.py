"""The course: legs, their state, headline and the next bearing."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import StrEnum

from crisp_compass.bench.models import Bench, Topic
from crisp_compass.bench.rules import family_gap, settled_value, stale_inputs
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.modulation.pwm import samples_per_turn, turn_verdict
from crisp_compass.quantities import show, significant
from crisp_compass.voyage import design
from crisp_compass.voyage.checks import check_findings


class State(StrEnum):
    """State of a leg; the value is the word people see."""

    NOT_BEGUN = "not begun"
    EVIDENCE = "evidence only"
    SETTLED = "settled"
    STALE = "stale"
    BLOCKED = "blocked"


@dataclass(frozen=True)
class Leg:
    """A waypoint: key, name on the course, the question it answers, the legs that must be settled before it.

    ``topic`` is what settling it settles; None for legs where nothing is settled. An ``optional`` leg is never the next
    bearing while it has no capture: something else stands in for it.
    """

    key: str
    name: str
    question: str
    needs: tuple[Topic, ...] = ()
    optional: bool = False

    @property
    def topic(self) -> Topic | None:
        """Return the topic this leg settles, if any."""
        return next((t for t in _TOPICS if t == self.key), None)


LEGS: tuple[Leg, ...] = (
    Leg("plate", "Plate", "What stands on the motor and what feeds it?"),
    Leg("resistance", "Resistance", "How much resistance has one phase?"),
    Leg("inductance", "Inductance", "How much inductance has one phase?"),
    Leg("flux", "Flux", "How much flux does the rotor carry?"),
    Leg("mechanics", "Mechanics", "How heavy does the shaft turn, and how much does it drag?", optional=True),
    Leg("commutation", "Commutation", "Where do the halls switch?"),
    Leg("pwm", "PWM", "How much voltage and time does the modulator give?"),
    Leg(
        "current_loop",
        "Current loop",
        "What gains hold the current, with this delay?",
        ("plate", "resistance", "inductance", "pwm"),
    ),
    Leg("speed_loop", "Speed loop", "What gains hold the speed?", ("plate", "flux", "pwm", "current_loop")),
    Leg(
        "run",
        "Run",
        "Does it run the way it should?",
        ("plate", "resistance", "inductance", "flux", "pwm", "current_loop", "speed_loop"),
    ),
    Leg("hand_over", "Hand over", "What goes into the firmware and into the file?"),
)
BY_KEY = {leg.key: leg for leg in LEGS}
_TOPICS: tuple[Topic, ...] = (
    "plate",
    "resistance",
    "inductance",
    "flux",
    "mechanics",
    "commutation",
    "pwm",
    "current_loop",
    "speed_loop",
)


#: Legs that hold for any family of motor.
_PLATE_ONLY = ("plate", "hand_over")


def legs_of(bench: Bench) -> tuple[Leg, ...]:
    """Return the legs of this bench; with an encoder, commutation can wait until the index is captured."""
    if bench.levers.plate.sensor == "halls":
        return LEGS
    return tuple(replace(leg, optional=True) if leg.key == "commutation" else leg for leg in LEGS)


def missing(bench: Bench, leg: Leg) -> list[Topic]:
    """Return the topics this leg waits for."""
    needs = leg.needs
    found = [topic for topic in needs if topic not in bench.settled]
    if leg.key == "run" and bench.levers.plate.sensor == "halls" and design.hall_edges(bench) is None:
        found.append("commutation")  # an encoder's zero is no hall table
    return found


def waiting_text(bench: Bench, leg: Leg) -> str:
    """Return ``Waits for resistance, PWM`` and what to do first; empty if the leg waits for nothing."""
    if family_gap(bench) and leg.key not in _PLATE_ONLY:
        gap = family_gap(bench)
        return f"{gap[:1].upper()}{gap[1:]}"
    topics = missing(bench, leg)
    if not topics:
        return ""
    names = [BY_KEY[t].name if BY_KEY[t].name.isupper() else BY_KEY[t].name.lower() for t in topics]
    return f"Waits for {', '.join(names)}"


def first_steps(bench: Bench, leg: Leg) -> list[tuple[str, str]]:
    """Return name and first step of every leg that this one waits for."""
    return [(BY_KEY[t].name, _FIRST_STEPS[t]) for t in missing(bench, leg)]


def state_of(bench: Bench, leg: Leg) -> State:
    """Return the state of a leg."""
    if family_gap(bench) and leg.key not in _PLATE_ONLY:
        return State.BLOCKED
    if leg.topic is not None and leg.topic in bench.settled:
        return State.STALE if stale_inputs(bench, leg.topic) else State.SETTLED
    if missing(bench, leg):
        return State.BLOCKED
    if leg.key == "hand_over":
        return State.EVIDENCE if bench.settled else State.NOT_BEGUN
    if leg.key == "run":
        stale = [t for t in ("current_loop", "speed_loop") if stale_inputs(bench, t)]
        return State.STALE if stale else State.EVIDENCE
    return State.EVIDENCE if bench.evidence.get(leg.key) else State.NOT_BEGUN


def headline(bench: Bench, leg: Leg) -> str:
    """Return the leg's figure for the course strip; empty where there is none yet."""
    if family_gap(bench) and leg.key not in _PLATE_ONLY:
        return ""
    plate = bench.levers.plate
    settled = {t: bench.settled[t].values for t in bench.settled}
    if leg.key == "plate" and "plate" in settled:
        return f"{show(plate.v_bus, 'V')}  {plate.pole_pairs} pp"
    names = {
        "resistance": ("resistance", "Ω"),
        "flux": ("flux_linkage", "Wb"),
        "mechanics": ("inertia", "kg·m²"),
        "pwm": ("carrier_hz", "Hz"),
        "current_loop": ("bandwidth_hz", "Hz"),
    }
    if leg.key in names and leg.key in settled:
        name, unit = names[leg.key]
        return show(settled[leg.key][name].value, unit)
    if leg.key == "inductance" and "inductance" in settled:
        values = settled["inductance"]
        mean = 0.5 * (values["ld"].value + values["lq"].value)
        return show(mean, "H")
    if leg.key == "commutation" and "commutation" in bench.settled:
        halls = bench.settled["commutation"].halls
        if halls:
            return f"{halls.spacing_deg}° halls"
        counts = bench.settled["commutation"].values.get("counts_per_rev")
        return f"{counts.value:.0f} counts" if counts else ""
    if leg.key == "speed_loop" and "speed_loop" in settled:
        return show(settled["speed_loop"]["kp"].value, "A/(rad/s)").replace("A/(rad/s)", "As/rad")
    return ""


@dataclass(frozen=True)
class Bearing:
    """The next useful step: the leg (and its section, empty for the main one) to go to, and the sentence that says why."""

    leg: str
    text: str
    section: str = ""


_FIRST_STEPS = {
    "plate": "Enter the plate and the supply, then settle them: every later leg rests on pole pairs and bus voltage.",
    "resistance": "Clamp the rotor, take a DC staircase between A and B (C open) and drop the capture on the window.",
    "inductance": "Hold the rotor, capture a voltage step from A to B and drop the capture on the window.",
    "flux": "Leave the leads open, spin the shaft, capture its coasting and drop the capture on the window.",
    "mechanics": "Run the shaft up and let it coast, capture speed and i_q and drop the capture on the window.",
    "commutation": "Turn the shaft by hand, capture the halls and two line voltages and drop the capture on the window.",
    "pwm": "Check carrier, dead time and usable voltage, then settle the PWM.",
    "current_loop": "Choose the current loop's bandwidth and settle its gains.",
    "speed_loop": "Choose the speed loop's gains and settle them.",
}


def next_bearing(bench: Bench) -> Bearing:
    """Return the most useful next step and why."""
    gap = family_gap(bench)
    if gap and "plate" in bench.settled:
        return Bearing("plate", f"{gap[:1].upper()}{gap[1:]}: this bench ends at its plate.")
    for leg in legs_of(bench):
        if leg.topic is None:
            continue
        stale = stale_inputs(bench, leg.topic)
        if leg.key in bench.settled and stale:
            return Bearing(
                leg.key,
                f"{leg.name} rests on an old {describe_input(stale[0].key)}: look at what changes and settle it again.",
            )
        if leg.key in bench.settled:
            continue
        if leg.optional and not bench.evidence.get(leg.key):
            continue
        waiting = missing(bench, leg)
        if waiting:
            first = BY_KEY[waiting[0]]
            return Bearing(
                first.key,
                f"{leg.name} waits for {first.name if first.name.isupper() else first.name.lower()}: {_FIRST_STEPS[first.key]}",
            )
        if bench.evidence.get(leg.key):
            return Bearing(leg.key, f"{leg.name}: a capture is read; check the fit and settle the value.")
        return Bearing(leg.key, _FIRST_STEPS[leg.key])
    stopped = [f for f in check_bench(bench) if f.level == "stop"]
    if stopped:
        check = stopped[0].code == "check-stop"
        return Bearing("plate" if check else "pwm", stopped[0].text, "Checks" if check else "")
    return Bearing("run", "All legs are settled: run the drive in simulation, then hand the settings over.")


def describe_input(key: str) -> str:
    """Return ``resistance.resistance`` as people say it."""
    topic, _, name = key.partition(".")
    shown = {
        "ld": "d inductance",
        "lq": "q inductance",
        "v_bus": "bus voltage",
        "loop_hz": "loop rate",
        "bandwidth_hz": "current bandwidth",
    }
    return shown.get(name, name.replace("_", " ") if name else topic)


def check_bench(bench: Bench) -> list[Finding]:
    """Return what is settled, what is stale, what blocks the next step, and what does not fit together."""
    findings: list[Finding] = []
    for leg in legs_of(bench):
        if leg.topic is None:
            continue
        state = state_of(bench, leg)
        if state is State.SETTLED:
            findings.append(
                Finding(
                    "info",
                    f"settled-{leg.key.replace('_', '-')}",
                    f"{leg.name} is settled{': ' + headline(bench, leg) if headline(bench, leg) else ''}.",
                )
            )
        elif state is State.STALE:
            for item in stale_inputs(bench, leg.topic):
                now = "withdrawn" if item.now is None else show(item.now, item.unit, 4)
                findings.append(
                    Finding(
                        "caution",
                        f"stale-{leg.key.replace('_', '-')}",
                        f"{leg.name} rests on {describe_input(item.key)} {show(item.then, item.unit or _unit_of(bench, item.key), 4)}, now {now}.",
                    )
                )
    unsettled = [
        leg for leg in legs_of(bench) if leg.key in _TOPICS and leg.key not in bench.settled and not leg.optional
    ]
    if unsettled:
        names = ", ".join(leg.name.lower() for leg in unsettled)
        bearing = next_bearing(bench).text
        findings.append(Finding("caution", "next-step", f"Not settled yet: {names}. Next: {bearing}"))
    if family_gap(bench):
        gap = family_gap(bench)
        findings.append(Finding("stop", "family-not-built", f"{gap[:1].upper()}{gap[1:]}."))
    else:
        findings.extend(_consistency(bench))
    findings.extend(check_findings(bench))
    return findings


def _unit_of(bench: Bench, key: str) -> str:
    quantity = settled_value(bench, key)
    return quantity.unit if quantity else ""


def _consistency(bench: Bench) -> list[Finding]:
    findings = []
    psi, p = settled_value(bench, "flux.flux_linkage"), settled_value(bench, "plate.pole_pairs")
    limit, top, loop_hz = (
        settled_value(bench, "pwm.v_limit"),
        settled_value(bench, "plate.top_speed"),
        settled_value(bench, "pwm.loop_hz"),
    )
    if psi and p and limit and top:
        emf = psi.value * p.value * top.value
        if emf > limit.value:
            reach = limit.value / (psi.value * p.value) * RPM_PER_RAD_S
            findings.append(
                Finding(
                    "caution",
                    "top-speed-beyond-supply",
                    f"At top speed the back-EMF peaks at {show(emf, 'V')}, above the modulator's {show(limit.value, 'V')}: {reach:.0f} rpm is the end without field weakening.",
                )
            )
    if top and p and loop_hz:
        verdict = turn_verdict(samples_per_turn(loop_hz.value, top.value * p.value / (2 * math.pi)))
        if verdict.level != "info":
            findings.append(verdict)
    return findings


def stale_effect(bench: Bench, topic: Topic) -> str:
    """Say what settling a stale topic again would change, in one sentence; empty if it is not stale."""
    stale = stale_inputs(bench, topic)
    if not stale:
        return ""
    first = stale[0]
    now = "withdrawn" if first.now is None else show(first.now, first.unit, 4)
    text = f"Rests on {describe_input(first.key)} {show(first.then, first.unit, 4)}, now {now}"
    try:
        if topic == "current_loop":
            fresh = design.current_values(bench, design.design_current(bench))
        elif topic == "speed_loop":
            fresh = design.speed_values(bench, design.design_speed(bench))
        else:
            return text + "."
    except Refusal:  # an input is withdrawn: there is nothing to compare with
        return text + "."
    old = bench.settled[topic].values
    changes = [
        (abs(fresh[k].value / old[k].value - 1), k) for k in old if k in fresh and k.startswith("k") and old[k].value
    ]
    moved = max(changes, default=(0.0, ""))
    return (
        f"{text}: {moved[1].replace('_', ' ').capitalize()} would move by {significant(100 * moved[0], 2)} %."
        if moved[0] > 1e-6
        else text + "."
    )
