"""A measured current step on its prediction, and what differs."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import need
from crisp_compass.capture import Capture
from crisp_compass.course.gain_trials import predicted_step
from crisp_compass.errors import Refusal
from crisp_compass.loops.step_fit import StepFit
from crisp_compass.motor import winding_of
from crisp_compass.quantities import show
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_DIAL = DialView(caption="A q step at standstill, rotor held", rotor=35.0, current=(125.0, 0.8))
_X, _Y = ("time from the step", "s"), ("current i_q", "A")


def said(bench: Bench, evidence: Evidence | None, result: object) -> Said:
    """Return whether the loop does what was designed, and the likeliest cause where it does not."""
    if evidence is None:
        reason = (
            "Capture i_q_ref and i_q (better with v_q) around a step at standstill, shaft clamped, and drop it here."
        )
        try:
            predicted_step(bench)
        except Refusal as refusal:
            reason = refusal.sentence
        return Said("No step yet", "", reason, dial=_DIAL)
    found = evidence.estimates
    cause = result.cause if isinstance(result, StepFit) else ""
    return Said(
        "As designed" if not cause else "Not as designed",
        f"L {show(found['inductance'].value, 'H')}, R {show(found['resistance'].value, 'Ω')}, delay {show(found['delay'].value, 's')} effective",
        f"{cause or 'All three agree with the design within their error bars.'} {evidence.method}.",
        dial=_DIAL,
        boxes=_boxes(bench, evidence),
    )


def _boxes(bench: Bench, evidence: Evidence) -> tuple[Box, ...]:
    found, samples = evidence.estimates, bench.settings.current_loop.delay_samples
    try:
        loop_hz = need(bench, "pwm.loop_hz")
        r, lq = winding_of(bench).r, winding_of(bench).lq
    except Refusal as refusal:
        return (Box("Designed → found", (), refusal.sentence),)
    rows = []
    for name, key, unit, was in (
        ("R", "resistance", "Ω", r),
        ("L", "inductance", "H", lq),
        ("delay", "delay", "s", samples / loop_hz),
    ):
        value = found[key]
        half = (value.interval95[1] - value.interval95[0]) / 2 if value.interval95 else 0.0
        rows.append((name, f"{show(was, unit)} → {show(value.value, unit)} ±{show(half, unit, 2)}"))
    rows.append(("delay, periods", f"{samples:g} → {found['delay'].value * loop_hz:.2f}"))
    if "voltage_lost" in found:
        rows.append(("voltage lost", show(found["voltage_lost"].value, "V")))
    times = {k: show(found[k].value, "s") if k in found else "–" for k in ("first", "rise", "settling")}
    step = (
        ("first 5 % after", times["first"]),
        ("rise, 10 to 90 %", times["rise"]),
        ("overshoot", f"{100 * found['overshoot'].value:.1f} %"),
        ("within ±5 % after", times["settling"]),
        ("rings at", show(found["ringing"].value, "Hz") if found["ringing"].value else "does not ring"),
    )
    return (Box("Designed → found", tuple(rows)), Box("The step itself", step))


def expected(bench: Bench) -> tuple[Pane, ...]:
    """Return the prediction alone; raises Refusal where it is not possible."""
    return (Pane("measured step", _X, _Y, (Curve("predicted", "expected", *predicted_step(bench)),)),)


def panes(_: Capture, fit: StepFit) -> tuple[Pane, ...]:
    """Return the step with prediction and fit, and what is left."""
    return (
        Pane(
            "measured step",
            _X,
            _Y,
            (
                Curve("predicted with the gains that ran", "expected", fit.time, fit.predicted),
                Curve("fitted", "fit", fit.time, fit.fitted, wide=True),
                Curve("measured", "measured", fit.time, fit.measured, shape="points"),
            ),
            printed=True,
        ),
        Pane(
            "residual",
            _X,
            ("residual", "A"),
            (Curve("residual", "measured", fit.time, fit.measured - fit.fitted),),
            zero=True,
            printed=True,
        ),
    )


VIEW = View(said, panes)
