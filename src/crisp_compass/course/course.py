"""The course of a bench: which waypoints it has, their state, what they wait for, their figure."""

from __future__ import annotations

from enum import StrEnum

from crisp_compass.bench.entered import edits
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import family_gap, stale_inputs
from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints import BY_KEY, WAYPOINTS
from crisp_compass.motor import family_of


class State(StrEnum):
    """State of a waypoint; the value is the word people see."""

    NOT_BEGUN = "not begun"
    EVIDENCE = "evidence only"
    SETTLED = "settled"
    EDITED = "edited, not settled"
    STALE = "stale"
    BLOCKED = "blocked"


def waypoints_of(bench: Bench) -> tuple[Waypoint, ...]:
    """Return the waypoints that this bench has."""
    reach = bench.settings.plate.reach
    return tuple(w for w in WAYPOINTS if w.applies(bench) and (reach is None or w.key in reach))


def sections_of(bench: Bench, waypoint: Waypoint) -> tuple[str, ...]:
    """Return the names of the pages that this bench has use for."""
    return tuple(s.name for s in waypoint.sections if s.applies(bench))


def needs_of(bench: Bench, waypoint: Waypoint) -> tuple[str, ...]:
    """Return the topics a waypoint needs, of those that the bench's motor has."""
    own = {w.key for w in waypoints_of(bench)}
    return tuple(t for t in waypoint.needs if t in own)


def missing(bench: Bench, waypoint: Waypoint) -> list[str]:
    """Return the topics this waypoint waits for."""
    return [*(t for t in needs_of(bench, waypoint) if t not in bench.settled), *waypoint.also_needs(bench)]


def _beyond(bench: Bench, waypoint: Waypoint) -> str:
    """Return why nothing can be worked out here for the bench's motor; empty where it can."""
    gap = family_gap(bench, waypoint.key)
    return f"{gap[:1].upper()}{gap[1:]}"


def waiting_text(bench: Bench, waypoint: Waypoint) -> str:
    """Return ``Waits for resistance, PWM``, or why the motor is not computed; empty if it waits for nothing."""
    beyond = _beyond(bench, waypoint)
    names = [BY_KEY[t].inline_name for t in missing(bench, waypoint)]
    return beyond or (f"Waits for {', '.join(names)}" if names else "")


def first_steps(bench: Bench, waypoint: Waypoint) -> list[tuple[str, str]]:
    """Return name and first step of every waypoint that this one waits for."""
    return [(BY_KEY[t].name, first_step_of(bench, BY_KEY[t])) for t in missing(bench, waypoint)]


def first_step_of(bench: Bench, waypoint: Waypoint) -> str:
    """Return what to do first on a leg with this bench's motor and sensor."""
    if waypoint.key == "commutation" and bench.settings.sensor.is_encoder:
        return "Align the rotor with a held current, or turn it by hand with two line voltages and the encoder, and drop the capture on the window."
    return family_of(bench).first_steps.get(waypoint.key, waypoint.first_step)


def state_of(bench: Bench, waypoint: Waypoint) -> State:
    """Return the state of a waypoint."""
    topic = waypoint.topic
    if _beyond(bench, waypoint):
        return State.BLOCKED
    if topic is not None and topic in bench.settled:
        if stale_inputs(bench, topic):
            return State.STALE
        return State.EDITED if edits(bench, topic) else State.SETTLED
    if missing(bench, waypoint):
        return State.BLOCKED
    if topic is not None:
        return State.EVIDENCE if bench.evidence.get(waypoint.key) else State.NOT_BEGUN
    if not waypoint.needs:  # it takes what there is
        return State.EVIDENCE if bench.settled else State.NOT_BEGUN
    return State.STALE if any(stale_inputs(bench, t) for t in needs_of(bench, waypoint)) else State.EVIDENCE


def headline(bench: Bench, waypoint: Waypoint) -> str:
    """Return its figure for the course strip; empty where there is none yet."""
    settled = bench.settled.get(waypoint.key)
    if settled is None or _beyond(bench, waypoint):
        return ""
    figure = waypoint.headline(settled)
    return f"≈ {figure}" if figure and settled.origin == "data-sheet" else figure
