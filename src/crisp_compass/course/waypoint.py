"""The course: legs, their state and their headline."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from crisp_compass.bench.entered import edits
from crisp_compass.bench.models import Bench, Topic
from crisp_compass.bench.rules import family_gap, stale_inputs
from crisp_compass.course import design
from crisp_compass.quantities import show


class State(StrEnum):
    """State of a leg; the value is the word people see."""

    NOT_BEGUN = "not begun"
    EVIDENCE = "evidence only"
    SETTLED = "settled"
    EDITED = "edited, not settled"
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
        return next((t for t in TOPICS if t == self.key), None)


LEGS: tuple[Leg, ...] = (
    Leg("plate", "Plate", "What stands on the motor and what feeds it?"),
    Leg("resistance", "Resistance", "How much resistance has one phase?"),
    Leg("inductance", "Inductance", "How much inductance has one phase?"),
    Leg("flux", "Flux", "How much flux does the rotor carry?"),
    Leg("mechanics", "Mechanics", "What are inertia and friction?", optional=True),
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
TOPICS: tuple[Topic, ...] = (
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
PLATE_ONLY = ("plate", "hand_over")


def legs_of(bench: Bench) -> tuple[Leg, ...]:
    """Return the legs of this bench; with an encoder, commutation can wait until the index is captured."""
    if bench.settings.plate.sensor == "halls":
        return LEGS
    return tuple(replace(leg, optional=True) if leg.key == "commutation" else leg for leg in LEGS)


def missing(bench: Bench, leg: Leg) -> list[Topic]:
    """Return the topics this leg waits for."""
    needs = leg.needs
    found = [topic for topic in needs if topic not in bench.settled]
    if leg.key == "run" and bench.settings.plate.sensor == "halls" and design.hall_edges(bench) is None:
        found.append("commutation")  # an encoder's zero is no hall table
    return found


def waiting_text(bench: Bench, leg: Leg) -> str:
    """Return ``Waits for resistance, PWM`` and what to do first; empty if the leg waits for nothing."""
    if family_gap(bench) and leg.key not in PLATE_ONLY:
        gap = family_gap(bench)
        return f"{gap[:1].upper()}{gap[1:]}"
    topics = missing(bench, leg)
    if not topics:
        return ""
    names = [BY_KEY[t].name if BY_KEY[t].name.isupper() else BY_KEY[t].name.lower() for t in topics]
    return f"Waits for {', '.join(names)}"


def first_steps(bench: Bench, leg: Leg) -> list[tuple[str, str]]:
    """Return name and first step of every leg that this one waits for."""
    return [(BY_KEY[t].name, FIRST_STEPS[t]) for t in missing(bench, leg)]


def state_of(bench: Bench, leg: Leg) -> State:
    """Return the state of a leg."""
    if family_gap(bench) and leg.key not in PLATE_ONLY:
        return State.BLOCKED
    if leg.topic is not None and leg.topic in bench.settled:
        if stale_inputs(bench, leg.topic):
            return State.STALE
        return State.EDITED if edits(bench, leg.topic) else State.SETTLED
    if missing(bench, leg):
        return State.BLOCKED
    if leg.key == "hand_over":
        return State.EVIDENCE if bench.settled else State.NOT_BEGUN
    if leg.key == "run":
        loops: tuple[Topic, ...] = ("current_loop", "speed_loop")
        return State.STALE if any(stale_inputs(bench, t) for t in loops) else State.EVIDENCE
    return State.EVIDENCE if bench.evidence.get(leg.key) else State.NOT_BEGUN


def headline(bench: Bench, leg: Leg) -> str:
    """Return the leg's figure for the course strip; empty where there is none yet."""
    if family_gap(bench) and leg.key not in PLATE_ONLY:
        return ""
    settled = {t: bench.settled[t].values for t in bench.settled}
    if leg.key == "plate" and "plate" in settled:
        values = settled["plate"]
        parts = [show(values["v_bus"].value, "V")] if "v_bus" in values else []
        return "  ".join([*parts, *([f"{values['pole_pairs'].value:.0f} pp"] if "pole_pairs" in values else [])])
    names = {
        "resistance": ("resistance", "Ω"),
        "flux": ("flux_linkage", "Wb"),
        "mechanics": ("inertia", "kg·m²"),
        "pwm": ("carrier_hz", "Hz"),
        "current_loop": ("bandwidth_hz", "Hz"),
    }
    if leg.key in names and leg.key in settled:
        name, unit = names[leg.key]
        return show(settled[leg.key][name].value, unit) if name in settled[leg.key] else ""
    if leg.key == "inductance" and {"ld", "lq"} <= set(settled.get("inductance", ())):
        values = settled["inductance"]
        mean = 0.5 * (values["ld"].value + values["lq"].value)
        return show(mean, "H")
    if leg.key == "commutation" and "commutation" in bench.settled:
        halls = bench.settled["commutation"].halls
        if halls:
            return f"{halls.spacing_deg}° halls"
        counts = bench.settled["commutation"].values.get("counts_per_rev")
        return f"{counts.value:.0f} counts" if counts else ""
    if leg.key == "speed_loop" and "kp" in settled.get("speed_loop", ()):
        return show(settled["speed_loop"]["kp"].value, "A/(rad/s)").replace("A/(rad/s)", "As/rad")
    return ""


FIRST_STEPS = {
    "plate": "Enter the plate and the supply, then settle them: every later leg uses pole pairs and bus voltage.",
    "resistance": "Clamp the rotor, take a DC staircase between A and B (C open) and drop the capture on the window.",
    "inductance": "Hold the rotor, capture a voltage step from A to B and drop the capture on the window.",
    "flux": "Leave the leads open, spin the shaft, capture its coasting and drop the capture on the window.",
    "mechanics": "Run the shaft up and let it coast, capture speed and i_q and drop the capture on the window.",
    "commutation": "Turn the shaft by hand, capture the halls and two line voltages and drop the capture on the window.",
    "pwm": "Check carrier, dead time and usable voltage, then settle the PWM.",
    "current_loop": "Choose the current loop's bandwidth and settle its gains.",
    "speed_loop": "Choose the speed loop's gains and settle them.",
}
