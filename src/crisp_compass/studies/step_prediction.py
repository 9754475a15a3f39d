"""What pages show before anything runs: modulator pictures, predicted steps."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.known import best_value
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.current import AxisLoop, CurrentDesign, limit_tracking
from crisp_compass.loops.speed import SpeedDesign
from crisp_compass.modulation.full_bridge import leg_duties, winding_ripple
from crisp_compass.modulation.pwm import samples_per_turn, turn_verdict
from crisp_compass.modulation.vectors import duties
from crisp_compass.motor import pole_pairs_of, three_phases, turns_field, winding_of
from crisp_compass.plant.parameters import (
    CURRENT,
    Control,
    Inverter,
    Machine,
    locked_rotor,
)
from crisp_compass.plant.simulation import Simulation


@dataclass(frozen=True)
class PwmPicture:
    """Duties (n, k) of the ``legs`` over one turn ``angle`` (n,) ° (of one armature: over its voltage, V), and loop steps per turn ``steps`` (m,) over ``speed`` (m,) rad/s;
    ``ripple`` [A peak to peak] the most of a winding between two legs, where its inductance is known."""

    angle: FloatArray
    legs: tuple[str, ...]
    duty: FloatArray
    speed: FloatArray
    steps: FloatArray
    verdict: Finding
    ripple: float | None = None


def pwm_picture(bench: Bench, loop_hz: float, limit: float) -> PwmPicture:
    """Return the modulator's pictures at the edge of the linear range."""
    plate, scheme = bench.settings.plate, bench.settings.pwm.scheme
    angle = np.linspace(0.0, 360.0, 361)
    turned, decay = np.radians(angle), bench.settings.pwm.decay
    ripple: float | None = None
    legs: tuple[str, ...] = ("A", "B", "C")
    if three_phases(bench):
        duty = duties(scheme, limit, plate.v_bus, turned)
    else:
        volts = [limit * np.cos(turned), limit * np.sin(turned)]
        if not turns_field(bench):
            angle = np.linspace(-limit, limit, len(angle))
            volts = [angle]
        legs = ("A+", "A−", "B+", "B−")[: 2 * len(volts)]
        duty = np.hstack([leg_duties(v, plate.v_bus, decay) for v in volts])
        inductance = best_value(bench, "lq")
        if inductance:
            carrier = bench.settings.pwm.carrier_hz
            ripple = float(np.max(winding_ripple(volts[0], plate.v_bus, inductance, carrier, decay=decay)))
    speed = np.linspace(0.08, 1.2, 120) * plate.top_speed
    steps = loop_hz / (speed * pole_pairs_of(plate) / (2 * math.pi))
    verdict = turn_verdict(samples_per_turn(loop_hz, plate.top_speed * pole_pairs_of(plate) / (2 * math.pi)))
    if not turns_field(bench):  # the commutator turns the field, so the loop need not
        verdict = Finding("info", "no-turn", "")
    return PwmPicture(angle, legs, duty, speed, steps=steps, verdict=verdict, ripple=ripple)


@dataclass(frozen=True)
class StepPrediction:
    """A predicted response: time (n,) s, response (n,) A; ``reference_time`` and ``reference`` (4,) draw the step itself."""

    time: FloatArray
    reference_time: FloatArray
    reference: FloatArray
    response: FloatArray


def predict_current_step(bench: Bench, design: CurrentDesign) -> StepPrediction:
    """Run the compiled plant through a q current step at standstill, rotor held, with the design's gains."""
    step, loop_hz = bench.settings.current_loop.step, need(bench, "pwm.loop_hz")
    of = winding_of(bench)
    r, lq, ld = of.r, of.lq, of.ld
    response = held_step(
        design, tracking_of(design, r, ld, lq, loop_hz=loop_hz), bench.settings.current_loop.delay_samples, r, lq=lq, ld=ld, step=step, loop_hz=loop_hz,
        v_limit=usable_voltage(bench).command, length=_steps(design.q), before=4,
    )  # fmt: skip
    t = np.arange(len(response)) / loop_hz - 4 / loop_hz
    return StepPrediction(t, np.array([t[0], 0.0, 0.0, t[-1]]), np.array([0.0, 0.0, step, step]), response)


def _steps(axis: AxisLoop) -> int:
    crossover = axis.margins.crossover_hz
    seconds = nice(1.6 / crossover) if math.isfinite(crossover) else 100 * axis.loop.ts
    return int(min(max(seconds / axis.loop.ts, 40), 4000))


def nice(seconds: float) -> float:
    """Round a duration up to 1, 2 or 5 times a power of ten, so that a time axis stays while a number moves."""
    decade = 10.0 ** math.floor(math.log10(seconds))
    return float(next(m for m in (1, 2, 5, 10) if m * decade >= seconds * 0.999) * decade)


def tracking_of(design: CurrentDesign, r: float, ld: float, lq: float, loop_hz: float) -> tuple[float, float]:
    """Return what the integrators of d and q do at the voltage limit, of a design on a winding [Ω, H]."""
    d, q = (limit_tracking(a.kp, a.ki, 1 / loop_hz, r, l_axis=x) for a, x in ((design.d, ld), (design.q, lq)))
    return d, q


def held_step(
    design: CurrentDesign, tracks: tuple[float, float], delay_samples: float, r: float, lq: float, ld: float, step: float, loop_hz: float,
    v_limit: float, length: int, *, before: int = 0,
) -> FloatArray:  # fmt: skip
    """Return the q current (before + length,) [A] of the compiled plant around a step of its reference, rotor held.

    ``tracks`` belong to the firmware, as gains do, and stay where the winding is another one.
    """
    control = Control(
        ts=1 / loop_hz, kp_d=design.d.kp, ki_d=design.d.ki, kp_q=design.q.kp, ki_q=design.q.ki, ld=ld, lq=lq,
        track_d=tracks[0], track_q=tracks[1], delay_samples=delay_samples, volts_per_bus=1.0,
    )  # fmt: skip
    sim = Simulation(locked_rotor(Machine(r, ld, lq, 0.0, pole_pairs=1.0), control, Inverter(v_limit)))
    sim.command(CURRENT)
    rest = [sim.advance(before / loop_hz)["i_q"][:before]] if before else []
    sim.command(CURRENT, i_q=step)
    return np.concatenate([*rest, sim.advance(length / loop_hz)["i_q"][:length]])


@dataclass(frozen=True)
class Bode:
    """Open loop: frequency (n,) Hz, gain (n,) dB, phase (n,) ° (continuous)."""

    frequency: FloatArray
    gain_db: FloatArray
    phase_deg: FloatArray


def bode(design: AxisLoop | SpeedDesign) -> Bode:
    """Return the open loop's frequency response up to half the sampling rate."""
    nyquist = 0.5 / design.loop.ts
    crossover = design.margins.crossover_hz if math.isfinite(design.margins.crossover_hz) else nyquist / 20
    # whole decades, so that the axis stays while the crossover moves
    start = 10.0 ** math.floor(math.log10(max(crossover / 20, nyquist * 1e-5)))
    f = np.geomspace(start, nyquist * 0.999, 240)
    response = design.loop.response(2 * math.pi * f)
    phase = np.degrees(np.unwrap(np.angle(response)))
    if phase[0] > 0:  # an integrator or two start between −90° and −180°
        phase = phase - 360
    return Bode(f, 20 * np.log10(np.abs(response)), phase)


def predict_speed_step(design: SpeedDesign) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Return time (n,) s and the true speed's response to a unit step, without and with set-point filter."""
    ts = design.loop.ts
    crossover = design.margins.crossover_hz if math.isfinite(design.margins.crossover_hz) else 0.05 / ts
    n = int(min(max(nice(2.2 / crossover) / ts, 40), 6000))
    time: FloatArray = np.arange(n).astype(np.float64) * ts
    return time, design.step(n), design.step(n, filtered=True)
