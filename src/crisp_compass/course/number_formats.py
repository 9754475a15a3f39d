"""The current loop's gains in the firmware's numbers, and integers from the firmware read back, for the bench."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.waypoints.current_loop import design_current
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.number_format import Forms, QGain, Read, Scales, from_integers, to_forms
from crisp_compass.motor import winding_of
from crisp_compass.quantities import show

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


#: Figures of a decade that a full scale is rounded up to.
_ROUND = (1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0)
#: Room above the trip level: what is read there must still be told apart from the end of the scale.
_ROOM = 1.25


def proposed_scales(bench: Bench) -> tuple[float, float]:
    """Return full scales of current [A] and voltage [V] as round figures above the trip level and the bus."""
    return rounded_up(_ROOM * bench.settings.run.i_trip), rounded_up(bench.settings.plate.v_bus)


def rounded_up(value: float) -> float:
    """Return the next round figure."""
    decade = 10.0 ** math.floor(math.log10(value))
    return float(f"{next(r for r in _ROUND if r * decade >= value * (1 - 1e-12)) * decade:.6g}")


def bench_scales(bench: Bench) -> Scales:
    """Return the page's scales, proposed where the fields are empty, at the settled loop rate.

    Raises Refusal where PWM is not settled, or a scale ends below what the bench has: the bus, the trip level.
    """
    settings, run = bench.settings.current_loop, bench.settings.run
    i_base, v_base = proposed_scales(bench)
    scales = Scales(settings.i_base or i_base, settings.v_base or v_base, need(bench, "pwm.loop_hz"), settings.bits)
    v_bus = bench.settings.plate.v_bus
    for field, have, least, unit, what in (
        ("v_base", scales.v_base, v_bus, "V", "the bus"), ("i_base", scales.i_base, run.i_trip, "A", "the trip level"),
    ):  # fmt: skip
        if have < least:
            raise Refusal(
                f"a full scale of {show(have, unit)} ends below {what} of {show(least, unit)}",
                "choose a larger one, or empty the field",
                field=f"current_loop.{field}",
            )
    return scales


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
