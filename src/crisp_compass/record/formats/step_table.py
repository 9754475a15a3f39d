"""The ramp of a stepped motor as a C table of timer waits, for firmware whose timer makes the pulses."""

from __future__ import annotations

import math

from crisp_compass import __version__
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.course.open_loop import steps_open
from crisp_compass.course.position import count_of
from crisp_compass.errors import Refusal
from crisp_compass.motion.step_table import step_table
from crisp_compass.record.formats.form import Form
from crisp_compass.safe_text import c_comment, c_identifier

_COLUMNS = 10
_USE = """\
/* Wait before the pulse after `done` of a move of `whole` pulses: the ramp up, speed, and the same ramp down. */
static inline uint32_t cc_step_wait(uint32_t done, uint32_t whole)
{
    const uint32_t left = (whole > done) ? ((whole - done) - 1u) : 0u;
    const uint32_t nearer = (done < left) ? done : left;
    return (nearer < CC_STEP_TABLE_LENGTH) ? CC_STEP_TABLE[nearer] : CC_STEP_CRUISE_TICKS;
}
"""


def _step_table(bench: Bench) -> str:
    bench = standing(bench)
    if not steps_open(bench):
        raise Refusal("only a stepped field without a sensor runs by a table of waits", "take the firmware, whose position loop makes the profile")
    if "motion" not in bench.settled:
        raise Refusal("no move is settled", "settle one on Motion, Move")
    values = {k: q.value for k, q in bench.settled["motion"].values.items()}
    step, timer = count_of(bench), bench.settings.pwm.timer_hz
    made = step_table(speed=values["speed"], accel=values["accel"], rounding=values.get("rounding", 0.0), step=step, timer_hz=timer)
    waits = made.waits.tolist() or [made.cruise]
    kind = "uint16_t" if max(*waits, made.cruise) < 1 << 16 else "uint32_t"
    guard = f"CRISP_COMPASS_{c_identifier(bench.name)}_STEPS_H"
    lines = [
        f"/* Ramp of “{c_comment(bench.name)}” as waits between pulses, written by Crisp Compass {__version__}.",
        f" * To {values['speed']:.6g} rad/s with {values['accel']:.6g} rad/s^2" + (f", averaged over {values['rounding']:.6g} s" if values.get("rounding") else "") + f": {len(made.waits)} pulses of {math.degrees(step):.6g} deg.",
        " * One entry of the table of currents a pulse; waits in ticks of the timer, each from the pulse before. Nothing tells whether the rotor follows.",
        *((" * CAUTION: what this rests on has changed since it was settled.",) if stale_inputs(bench, "motion") else ()),
        " */", f"#ifndef {guard}", f"#define {guard}", "", "#include <stdint.h>", "",
        f"#define CC_STEP_TIMER_HZ ({timer:.10g})",
        f"#define CC_STEP_CRUISE_TICKS ({made.cruise}u) /* at {values['speed']:.6g} rad/s */",
        f"#define CC_STEP_TABLE_LENGTH ({len(waits)}u)",
        "", f"static const {kind} CC_STEP_TABLE[{len(waits)}] = {{",
        *("    " + ", ".join(f"{w}u" for w in waits[k : k + _COLUMNS]) + "," for k in range(0, len(waits), _COLUMNS)),
        "};", "", _USE, "#endif", "",
    ]  # fmt: skip
    return "\n".join(lines)


FORM = Form("c-step-table", "step table", "-steps.h", "steps", place=4, write=_step_table, suits=steps_open)
