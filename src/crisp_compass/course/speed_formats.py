"""The speed loop's gains in the firmware's numbers, and integers from the firmware read back, for the bench."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.number_formats import proposed_scales, rounded_up
from crisp_compass.course.speed_design import design_speed, plant_of
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.number_format import Forms, QGain, Scales, gains_of, to_forms
from crisp_compass.loops.speed import SpeedDesign, analyse_speed
from crisp_compass.motor import pole_pairs_of
from crisp_compass.quantities import show

#: Room of the speed's scale above the top speed.
_ROOM = 1.25


def speed_scales(bench: Bench) -> Scales:
    """Return the page's scales, proposed where the fields are empty, at the speed loop's rate; raises Refusal where a scale ends below what the bench has."""
    s, i_base = bench.settings.speed_loop, bench.settings.current_loop.i_base or proposed_scales(bench)[0]
    top = bench.settings.plate.top_speed
    w_base = s.w_base or proposed_speed(bench)
    if w_base < top:
        raise Refusal(f"a full scale of {show(w_base, 'rad/s')} ends below the top speed of {show(top, 'rad/s')}", "choose a larger one, or empty the field", field="speed_loop.w_base")
    return Scales(w_base, i_base, plant_of(bench).loop_hz, bench.settings.current_loop.bits, names=("speed", "current"))


def proposed_speed(bench: Bench) -> float:
    """Return the full scale of speed [rad/s]: a round figure in rpm above the top speed."""
    rpm = 30 / math.pi
    return rounded_up(_ROOM * bench.settings.plate.top_speed * rpm) / rpm


def speed_forms(bench: Bench) -> Forms:
    """Return the forms of the settled gains, or of the design where none are settled; raises Refusal as the design does."""
    kp, ki = settled_value(bench, "speed_loop.kp"), settled_value(bench, "speed_loop.ki")
    if kp is None or ki is None:
        design = design_speed(bench)
        return to_forms(design.kp, design.ki, speed_scales(bench))
    return to_forms(kp.value, ki.value, speed_scales(bench))


@dataclass(frozen=True)
class SpeedRead:
    """What integers mean: gains in SI, the loop that they make, a verdict and findings."""

    kp: float
    ki: float
    loop: SpeedDesign
    verdict: str
    findings: tuple[Finding, ...]


def read_speed(bench: Bench) -> SpeedRead | None:
    """Return what the typed integers mean, None while one is missing; raises Refusal for integers that cannot be."""
    s = bench.settings.speed_loop
    if s.kp_integer is None or s.ki_integer is None:
        return None
    kp, ki = gains_of(QGain(s.kp_integer, s.kp_shift, 0.0), QGain(s.ki_integer, s.ki_shift, 0.0), speed_scales(bench))
    loop = analyse_speed(plant_of(bench), kp, ki, "integers of the firmware")
    findings = _judged(bench, loop)
    verdict = "wrong" if any(f.level == "stop" for f in findings) else "doubtful" if findings else "sound"
    return SpeedRead(kp, ki, loop, verdict, findings=tuple(findings))


def _judged(bench: Bench, loop: SpeedDesign) -> list[Finding]:
    """Say whether the loop is sound, and which slip of a factor would explain gains that are not those of the design."""
    m, said = loop.margins, []
    if not m.stable:
        said.append(Finding("stop", "unstable", "These integers make the speed loop unstable with this inertia, filter and delay."))
    elif m.rings:
        said.append(Finding("caution", "small-margin", f"Only {m.phase_margin_deg:.0f}° and {m.gain_margin_db:.1f} dB margin are left: it will ring."))
    design = design_speed(bench)
    rate, pairs = plant_of(bench).loop_hz, float(pole_pairs_of(bench.settings.plate))
    factors = {30 / math.pi: "rpm for rad/s", pairs: "electrical for mechanical speed", math.sqrt(2): "rms for peak current", 2 * math.pi: "turns for radians"}
    for name, ratio in (("Kp", loop.kp / design.kp), ("Ki", loop.ki / design.ki)):
        if 0.4 < ratio < 2.5:
            continue
        named = {**factors, **({rate: "a sampling period that is folded in once too often, or not at all"} if name == "Ki" else {})}
        near = [text for factor, text in named.items() if factor > 1.3 and abs(abs(math.log(ratio)) - math.log(factor)) < 0.25]
        said.append(Finding("caution", f"{name.lower()}-far", f"{name} is {ratio:.3g} times the design's" + (f": {near[0]}?" if near else ".")))
    return said
