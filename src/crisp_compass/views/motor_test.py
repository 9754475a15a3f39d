"""A steady test of an induction motor, and the circuit that the newest no-load and locked tests make together."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.course.circuit import (
    circuit_findings,
    loss_split,
    newest,
    solved_circuit,
    usual_magnetizing,
)
from crisp_compass.course.waypoints.circuit import MotorTest
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate
from crisp_compass.identify.induction import InductionResult
from crisp_compass.motor import family_of
from crisp_compass.quantities import show, show_with_error
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_DIAL = DialView(caption="The flux of the rotor slips behind the stator's field", rotor=40.0, current=(115.0, 0.75))
_NAMES = (
    ("Rs", "stator_resistance"), ("Lσ", "leakage_inductance"), ("LM", "magnetizing_inductance"), ("RR", "rotor_resistance"),
    ("Tr", "rotor_time_constant"),
)  # fmt: skip


def _bar(estimate: Estimate) -> str:
    shown, doubt = show_with_error(estimate.value, (estimate.high - estimate.low) / 2, estimate.unit)
    return f"{shown} {doubt}"


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the circuit with its bars; while a test is missing, which one."""
    if evidence is None:
        done = bench.settled.get("circuit")
        shown = f"LM {show(done.values['magnetizing_inductance'].value, 'H')}" if done else "No capture yet"
        return Said(shown, "", family_of(bench).hints["circuit"], dial=_DIAL)
    try:
        found = solved_circuit(bench)
    except Refusal as refusal:
        return Said("Not yet", "", refusal.sentence, dial=_DIAL, boxes=(_tests(bench),))
    if found is None:
        other = "locked test" if evidence.kind == "no_load" else "no-load test"
        text = f"The {other} is missing: both together tell the circuit. Locked: at rated current, best at a quarter of rated frequency, below ten seconds."
        return Said("One of two tests", evidence.method, text, dial=_DIAL, boxes=(_tests(bench),))
    magnetizing = found.estimates["magnetizing_inductance"]
    shown, doubt = show_with_error(magnetizing.value, (magnetizing.high - magnetizing.low) / 2, "H")
    tr = _bar(found.estimates["rotor_time_constant"])
    typed = bench.settings.circuit.magnetizing_current
    current = usual_magnetizing(bench, found) if typed is None else typed
    origin = "rated voltage and frequency" if typed is None else "as entered"
    return Said(
        f"LM {shown}",
        f"{doubt}, 95 %; rotor time constant {tr}",
        f"Magnetized with {show(current, 'A')} peak ({origin}). {found.method[:1].upper()}{found.method[1:]}.",
        f"Settle LM {show(magnetizing.value, 'H')}…",
        can_settle=True,
        findings=tuple(circuit_findings(bench, found)),
        dial=_DIAL,
        boxes=(_circuit(found), _tests(bench), *_losses(bench, found)),
    )


def _circuit(found: InductionResult) -> Box:
    rows = tuple((name, _bar(found.estimates[key])) for name, key in _NAMES)
    return Box("Inverse-Γ circuit, a phase of the star", rows)


def _tests(bench: Bench) -> Box:
    rows = []
    rated = rated_peak(bench.settings.plate)
    for kind, name in (("no_load", "no load"), ("locked_rotor", "locked")):
        test = newest(bench, kind)
        if test is None:
            rows.append((name, "missing"))
            continue
        e = test.estimates
        share = f"{100 * e['current'].value / rated:.0f} % of rated"
        rows += [
            (name, f"{show(e['voltage'].value, 'V')}, {show(e['current'].value, 'A')} peak, {e['frequency'].value:.4g} Hz"),
            ("", f"{show(e['power'].value, 'W')}, {share}"),
        ]  # fmt: skip
    return Box("The tests", tuple(rows))


def _losses(bench: Bench, found: InductionResult) -> tuple[Box, ...]:
    split = loss_split(bench, found.estimates["stator_resistance"].value)
    if split is None:
        loss = show(found.estimates["no_load_loss"].value, "W")
        text = "No-load tests at two or more voltages split it into iron and friction."
        return (Box("No-load loss less stator copper", (("iron and friction", loss),), text),)
    rows = (
        ("stator copper", show(split.copper, "W")), ("iron", show(split.iron, "W")), ("friction, windage", show(split.friction, "W")),
    )  # fmt: skip
    return (Box(f"No-load losses, by {split.points} voltages", rows),)


def panes(capture: Capture, result: MotorTest) -> tuple[Pane, ...]:
    """Return a few periods of voltage and current with their fit, and the residual of the current."""
    s, x = result.state, ("time", "s")
    if not len(s.time):
        return ()
    shown = s.time < s.time[0] + 4 * 6.2831853 / s.omega
    t = s.time[shown]

    def pane(k: int, name: str, axis: tuple[str, str], *, printed: bool) -> Pane:
        measured = Curve(f"measured, {name}", "measured", t, s.measured[shown, k], dense=True, wide=True)
        return Pane(name, x, axis, (measured, Curve("fit", "fit", t, s.model[shown, k])), printed=printed)

    left = Curve("residual, i_a", "measured", s.time, s.measured[:, 2] - s.model[:, 2], dense=True)
    return (
        pane(0, "v_ab", ("voltage v_ab", "V"), printed=True),
        pane(2, "i_a", ("current i_a", "A"), printed=True),
        Pane("residual", x, ("residual i_a", "A"), (left,), zero=True),
    )


VIEW = View(said, panes)
