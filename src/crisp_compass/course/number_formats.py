"""The current loop's gains in the firmware's numbers, and integers from the firmware read back, for the bench."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.number_format import Forms, QGain, Read, Scales, from_integers, to_forms
from crisp_compass.motor import winding_of

BITS = (12, 16, 24, 32)
_STEPS = 60


@dataclass(frozen=True)
class FormatPicture:
    """Forms of the q controller (settled, else designed) and its unit step: time (n,) s, response (n,)."""

    forms: Forms
    time: FloatArray
    designed: FloatArray


@dataclass(frozen=True)
class ReadPicture:
    """Integers read back and the unit step they make; NaN where the loop is unstable."""

    read: Read
    time: FloatArray
    response: FloatArray


def bench_scales(bench: Bench) -> Scales:
    """Return the page's scales at the settled loop rate; raises Refusal where PWM is not settled."""
    settings = bench.settings.current_loop
    return Scales(settings.i_base, settings.v_base, need(bench, "pwm.loop_hz"), settings.bits)


def format_picture(bench: Bench) -> FormatPicture:
    """Return the forms of the settled gains, or of the design where none are settled; raises Refusal as the design does."""
    design = design_current(bench)
    kp, ki = settled_value(bench, "current_loop.kp_q"), settled_value(bench, "current_loop.ki_q")
    forms = to_forms(kp.value if kp else design.q.kp, ki.value if ki else design.q.ki, bench_scales(bench))
    return FormatPicture(forms, np.arange(_STEPS) / need(bench, "pwm.loop_hz"), design.q.step(_STEPS))


def read_picture(bench: Bench) -> ReadPicture | None:
    """Return what the typed integers mean, None while one is missing; raises Refusal for integers that cannot be."""
    settings = bench.settings.current_loop
    if settings.kp_integer is None or settings.ki_integer is None:
        return None
    read = from_integers(
        QGain(settings.kp_integer, settings.kp_shift, 0.0), QGain(settings.ki_integer, settings.ki_shift, 0.0), bench_scales(bench),
        r=winding_of(bench).r, inductance=winding_of(bench).lq, delay_samples=settings.delay_samples,
    )  # fmt: skip
    response = read.loop.step(_STEPS) if read.loop.margins.stable else np.full(_STEPS, np.nan)
    return ReadPicture(read, np.arange(_STEPS) / need(bench, "pwm.loop_hz"), response)
