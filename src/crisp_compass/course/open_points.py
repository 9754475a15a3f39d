"""What is still open on a bench: one list, the same on every page, in the record, the header and the command line; and from it
the next bearing."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from crisp_compass.bench.base import Topic
from crisp_compass.bench.entered import Edit, edits, presumed, value_of, words_of
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import family_gap, settled_value, stale_inputs
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.course import State, first_step_of, headline, missing, state_of, waypoints_of
from crisp_compass.course.data_sheet import data_sheet_proposal
from crisp_compass.course.known import CONSTANTS, WAYPOINT_OF, side_by_side
from crisp_compass.course.outer_loop import standing_reminders
from crisp_compass.course.waypoint import Proposal, Waypoint
from crisp_compass.course.waypoints import BY_KEY, KINDS
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.modulation.pwm import samples_per_turn, turn_verdict
from crisp_compass.motor import family_of
from crisp_compass.preparation.checks import check_findings
from crisp_compass.quantities import grouped, show, significant


@dataclass(frozen=True)
class Bearing:
    """The next useful step: the waypoint (and its section, empty for the main one) to go to, and the sentence that says why."""

    waypoint: str
    text: str
    section: str = ""


def next_bearing(bench: Bench, *, ran: bool = False) -> Bearing:
    """Return the most useful next step and why; ``ran`` tells that this drive was run in simulation as it is settled."""
    for waypoint in waypoints_of(bench):
        if waypoint.topic is None:
            continue
        stale = stale_inputs(bench, waypoint.topic)
        if waypoint.key in bench.settled and stale:
            text = f"{waypoint.name} uses an outdated {describe_input(stale[0].key)}: look at what changes and settle it again."
            return Bearing(waypoint.key, text)
        if waypoint.key in bench.settled:
            waiting_edits = edits(bench, waypoint.topic)
            if waiting_edits:
                return Bearing(waypoint.key, f"{_edited_text(waiting_edits)} Settle again, or undo the edit.")
            continue
        if waypoint.optional(bench) and not bench.evidence.get(waypoint.key):
            continue
        waiting = missing(bench, waypoint)
        if waiting:
            first = BY_KEY[waiting[0]]
            return Bearing(first.key, f"{waypoint.name} waits for {first.inline_name}: {_begin(bench, first)}")
        if bench.evidence.get(waypoint.key):
            return Bearing(waypoint.key, f"{waypoint.name}: a capture is read; check the fit and settle the value.")
        return Bearing(waypoint.key, _begin(bench, waypoint))
    found = open_points(bench)
    stopped = [f for f in found if f.level == "stop"]
    if stopped:
        check = stopped[0].code == "check-stop"
        return Bearing("plate" if check else "pwm", stopped[0].text, "Checks" if check else "")
    runs = any(w.key == "run" for w in waypoints_of(bench)) and not ran
    if not found:
        text = "run the drive in simulation, then hand over" if runs else "hand over"
        return Bearing("run" if runs else "hand_over", f"Everything is settled and no point is open: {text}.")
    begun = bench.checks and any(f.code == "checks-open" for f in found)
    points = f"{len(found)} point{'s are' if len(found) > 1 else ' is'} still open"
    if begun:
        text = next(f.text for f in found if f.code == "checks-open")
        return Bearing("plate", text, "Checks")
    if not runs:
        return Bearing("hand_over", f"Every value is settled, {points}: see there.")
    return Bearing("run", f"Every value is settled, {points} (see Hand over): run the drive in simulation.")


def _begin(bench: Bench, waypoint: Waypoint) -> str:
    """Return the first step of a leg; where something is stated already, that it may be settled as a start."""
    step = first_step_of(bench, waypoint)
    try:
        stated = data_sheet_proposal(bench, waypoint.key)
    except Refusal:
        return step
    return f"{step} Or settle what is stated, {stated.headline}, as a start." if stated is not None else step


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
    return shown.get(name, name.removesuffix("_hz").replace("_", " ") if name else topic)


def _said(topic: str, field: str, value: Any) -> str:
    unit = words_of(topic, field)[1]
    if isinstance(value, float) and unit == "rad/s":
        return f"{value * RPM_PER_RAD_S:.4g} rpm"
    if isinstance(value, int | float):
        return show(float(value), unit, 4)
    return "empty" if value is None else str(value).replace("-", " ")


def describe_field(bench: Bench, topic: str, field: str) -> str:
    """Return a field with its value as people read it: ``dead time 500 ns``."""
    return f"{words_of(topic, field)[0]} {_said(topic, field, value_of(bench, topic, field))}"


def presumed_text(bench: Bench, topic: str, *fields: str) -> str:
    """Say which of these fields nobody has entered, for a result that rests on them; empty where all were."""
    found = [describe_field(bench, topic, f) for f in fields if presumed(bench, topic, f)]
    return f"Presumed: {', '.join(found)}." if found else ""


def _edited_text(found: list[Edit]) -> str:
    """Say what waits to be settled, and what stands meanwhile."""
    parts = [f"{words_of(e.topic, e.field)[0]} {_said(e.topic, e.field, e.then)} → {_said(e.topic, e.field, e.now)}" for e in found]
    name = BY_KEY[found[0].topic].name
    return f"{name} is edited, not settled: {', '.join(parts)}; the settled value stays in use."


def edited_text(bench: Bench, topic: Topic) -> str:
    """Say what was edited since a topic was settled; empty where nothing was."""
    found = edits(bench, topic)
    return _edited_text(found) if found else ""


def open_points(bench: Bench) -> list[Finding]:
    """Return what a reader of the bench must know before trusting it: the one list, the gravest first."""
    found = [f for f in check_bench(bench) if f.level != "info"]
    return sorted(found, key=lambda f: f.level != "stop")


def check_bench(bench: Bench) -> list[Finding]:
    """Return what is settled, what is stale or edited, what blocks the next step, and what does not fit together."""
    findings: list[Finding] = []
    for waypoint in waypoints_of(bench):
        if waypoint.topic is None:
            continue
        state, code = state_of(bench, waypoint), waypoint.key.replace("_", "-")
        if state is State.SETTLED:
            figure = headline(bench, waypoint)
            findings.append(
                Finding("info", f"settled-{code}", f"{waypoint.name} is settled{': ' + figure if figure else ''}.")
            )
        elif state is State.EDITED:
            findings.append(Finding("caution", f"edited-{code}", edited_text(bench, waypoint.topic)))
        elif state is State.STALE:
            for item in stale_inputs(bench, waypoint.topic):
                now = "withdrawn" if item.now is None else show(item.now, item.unit, 4)
                then = show(item.then, item.unit or _unit_of(bench, item.key), 4)
                text = f"{waypoint.name} uses an outdated {describe_input(item.key)}: {then} then, {now} now."
                findings.append(Finding("caution", f"stale-{code}", text))
    stated = [w.inline_name for w in waypoints_of(bench) if w.key in bench.settled and bench.settled[w.key].origin == "data-sheet"]
    if stated:
        text = f"Stated by the data sheet, not measured: {', '.join(stated)}. What rests on it is a start: measure it before the gains are final."
        findings.append(Finding("caution", "data-sheet-values", text))
        findings += _stated_anew(bench)
    unsettled = [
        waypoint
        for waypoint in waypoints_of(bench)
        if waypoint.topic is not None and waypoint.key not in bench.settled and not waypoint.optional(bench)
    ]
    if unsettled:
        names = ", ".join(waypoint.inline_name for waypoint in unsettled)
        bearing = next_bearing(bench).text
        findings.append(Finding("caution", "next-step", f"Not settled yet: {names}. Next: {bearing}"))
    foreign = [BY_KEY[t].inline_name for t in bench.settled if family_gap(bench, t)]
    if foreign:
        text = f"The plate says {bench.settings.plate.called}, but {', '.join(foreign)} {'is' if len(foreign) == 1 else 'are'} settled for another kind of motor: not used, not exported."
        findings.append(Finding("caution", "other-family-settled", text))
    findings.extend(_consistency(bench))
    findings.extend(_doubts(bench))
    findings.extend(check_findings(bench))
    findings.extend(standing_reminders(bench))
    return findings


def _stated_anew(bench: Bench) -> list[Finding]:
    """Say where a value is settled as stated, and plate or data sheet state another one now."""
    found = []
    for topic, settled in bench.settled.items():
        if settled.origin != "data-sheet" or family_gap(bench, topic):
            continue
        try:
            now = data_sheet_proposal(bench, topic)
        except Refusal:
            continue
        if now is None or now.origin != "data-sheet":
            continue
        for name, then in settled.values.items():
            fresh = now.values.get(name)
            if fresh is not None and not math.isclose(fresh.value, then.value, rel_tol=1e-6):
                text = f"{BY_KEY[topic].name}: {show(then.value, then.unit, 4)} is settled as stated, the plate says {show(fresh.value, fresh.unit, 4)} now. Settle it again."
                found.append(Finding("caution", "stated-anew", text))
                break
    return found


def _doubts(bench: Bench) -> list[Finding]:
    """Return what stands against values that are settled: cautions of their captures, sources that disagree."""
    found: dict[str, Finding] = {}
    for topic, items in ((w.key, bench.evidence.get(w.key, ())) for w in waypoints_of(bench)):
        if topic in bench.settled and items:
            for note in items[-1].findings:
                if note.level != "info":
                    text = f"{BY_KEY[topic].name}: {note.text}"
                    found[text] = Finding(note.level, note.code, text)
    done = bench.settled.get("inductance")
    if done is not None and done.origin == "measured" and family_of(bench).blocks:
        shown = bench.evidence.get("inductance", ())
        if shown and shown[-1].kind == "steps" and done.values["ld"].value == done.values["lq"].value:
            text = "Inductance: read at one rotor angle, it stands for Ld and Lq; a second capture 90° (electrical) on, or three pairs with an LCR meter, tells them apart."
            found[text] = Finding("caution", "one-rotor-angle", text)
    for constant in CONSTANTS:
        for finding in side_by_side(bench, constant).findings:
            if finding.level != "info":
                text = f"{BY_KEY[WAYPOINT_OF[constant]].name}: {finding.text}"
                found[text] = Finding(finding.level, finding.code, text)
    return list(found.values())


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
                    f"At top speed the back-EMF peaks at {show(emf, 'V')}, above the modulator's {show(limit.value, 'V')}: {grouped(reach)} rpm is the end without field weakening.",
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
    text = f"Uses an outdated {describe_input(first.key)}: {show(first.then, first.unit, 4)} then, {now} now"
    try:
        proposed = _proposed(bench, topic)
    except Refusal:  # an input is withdrawn: there is nothing to compare with
        return f"{text}."
    if proposed is None:
        return f"{text}."
    old = bench.settled[topic].values
    moved = sorted(((abs(q.value / old[k].value - 1), k) for k, q in proposed.values.items() if k in old and old[k].value), reverse=True)
    moved = [(share, describe_input(f"{topic}.{k}")) for share, k in moved if share > 1e-6]
    if not moved:
        # what a capture says is worked out anew only where the capture is read again
        return f"{text}. Nothing settled here would move." if BY_KEY[topic].propose is not None else f"{text}."
    (most, name), second = moved[0], moved[1] if len(moved) > 1 else (0.0, "")
    told = significant(100 * most, 2)
    said = f"{name} would move by {told} %"
    if significant(100 * second[0], 2) == told:
        said = f"{name} and {second[1]} would move by {told} %"
    elif second[0] > 0.1 * most:
        said += f", {second[1]} by {significant(100 * second[0], 2)} %"
    return f"{text}. {said[:1].upper()}{said[1:]}."


def _proposed(bench: Bench, topic: Topic) -> Proposal | None:
    """Return what settling a topic now would settle: by design, or by its newest capture that settles anything."""
    waypoint = BY_KEY[topic]
    if waypoint.propose is not None:
        return waypoint.propose(bench)
    for evidence in reversed(bench.evidence.get(topic, ())):
        of = KINDS[evidence.kind].propose if evidence.kind in KINDS else None
        found = of(bench, evidence) if of is not None else None
        if found is not None:
            return found
    return None
