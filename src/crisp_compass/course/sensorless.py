"""Running without a sensor on this bench: whether, what start and estimator rest on, and what of it the plant's firmware runs."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.plate import torque_constant as torque_constant_of_plate
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.motor import family_of, flux_of, winding_of
from crisp_compass.plant.parameters import START_ROWS, Start
from crisp_compass.sensing import SENSORS
from crisp_compass.sensorless.design import KINDS, Doubts, Plant, estimator_for
from crisp_compass.sensorless.estimator import Estimator
from crisp_compass.sensorless.injection import Injected
from crisp_compass.sensorless.injection_design import Conditions, Injection, Iron, judge, settle_time
from crisp_compass.sensorless.start import TURNS_TO_TRUST, Row, Shaft

#: What the plant's current sensors add: noise and offset as parts of full scale.
NOISE_OF_SCALE, OFFSET_OF_SCALE = 4e-4, 1e-3
#: Converter steps over the full scale, both ways.
CONVERTER_STEPS = 4096
#: Corner of the speed filter where none is entered, Hz.
USUAL_FILTER_HZ = 300.0
#: Injection alone up to this part of the hand-over speed, the back-EMF alone from there.
FADES_AT = 0.5


def without_sensor(bench: Bench) -> bool:
    """Tell whether the rotor's angle of this bench is estimated: three phases, magnets, no sensor."""
    return not SENSORS[bench.settings.sensor.kind].leads and family_of(bench).blocks


def plant_of(bench: Bench) -> Plant:
    """Return the settled constants that the firmware believes; raises Refusal naming what is missing."""
    at = winding_of(bench)
    return Plant(at.r, at.ld, at.lq, flux_of(bench), pole_pairs=need(bench, "plate.pole_pairs"))


def shaft_of(bench: Bench) -> Shaft:
    """Return what the start must turn; raises Refusal where no inertia is known."""
    run, p = bench.settings.run, need(bench, "plate.pole_pairs")
    kt = torque_constant_of_plate(bench.settings.plate, flux_of(bench), p)
    return Shaft(
        kt, p, need(bench, "mechanics.inertia") + run.flywheel, need(bench, "mechanics.coulomb_friction") + braking_load(bench),
        viscous=need(bench, "mechanics.viscous_friction"), quadratic=run.quadratic, breakaway=run.breakaway + (braking_load(bench) if run.breakaway else 0.0), driving=driving_load(bench),
    )  # fmt: skip


def braking_load(bench: Bench) -> float:
    """Return the load of the run [N·m] that only brakes; 0 where it drives."""
    run = bench.settings.run
    return abs(run.load) if run.load_kind == "brakes" else 0.0


def driving_load(bench: Bench) -> float:
    """Return the load of the run [N·m] that drives (a weight, wind) as it pulls against the way the run turns; 0 where it only brakes."""
    run = bench.settings.run
    return math.copysign(1.0, run.speed) * run.load if run.load_kind == "drives" else 0.0


def full_scale(bench: Bench) -> float:
    """Return the full scale of the plant's current sensors, A."""
    return max(2.5 * bench.settings.run.i_trip, 1.0)


def doubts_of(bench: Bench) -> Doubts:
    """Return what this bench's firmware does not know exactly."""
    s, dead = bench.settings.start_up, settled_value(bench, "pwm.dead_time_voltage")
    scale = full_scale(bench)
    return Doubts(
        s.r_doubt,
        s.l_doubt,
        s.psi_doubt,
        s.dead_share * (dead.value if dead else 0.0),
        offset=OFFSET_OF_SCALE * scale,
        noise=NOISE_OF_SCALE * scale,
    )


def settled_rows(bench: Bench) -> tuple[Row, ...]:
    """Return the rows of the settled sequence; raises Refusal where it is not settled."""
    align, ramp, speed, hold = (
        need(bench, f"start_up.{k}") for k in ("align_current", "ramp_current", "hand_over", "hold")
    )
    first, second = (
        Row(align, 0.0, need(bench, "start_up.align_time"), estimator=False),
        need(bench, "start_up.acceleration"),
    )
    return (first, first, Row(ramp, speed, speed / second, estimator=False), Row(ramp, speed, hold, estimator=True))


def align_current(bench: Bench) -> float:
    """Return the current of the alignment, A peak: half of the rated one is common practice."""
    return bench.settings.start_up.align_current or 0.5 * rated_peak(bench.settings.plate)


def speed_loop_crossover(bench: Bench) -> float:
    """Return the crossover [rad/s] that the speed loop has or is meant to have: the estimate must be quicker."""
    s = bench.settings.speed_loop
    if s.method in ("bandwidth", "placement"):
        return 2 * math.pi * s.bandwidth_hz
    # the symmetric optimum crosses at 1/(a·Tσ); its lags are the current loop's and the filter's
    lags = 1 / (2 * math.pi * need(bench, "current_loop.bandwidth_hz")) + 1 / (2 * math.pi * (s.filter_hz or USUAL_FILTER_HZ))
    return 1 / ((s.a if s.method != "stiffest" else 2.0) * (lags + 1.5 * s.divider / need(bench, "pwm.loop_hz")))


def iron_of(bench: Bench) -> Iron:
    """Return what saturates: as measured, and by the magnet as the pole search has it, for its pulse or else the rated current."""
    at, c = winding_of(bench), bench.settings.commutation
    low, knee = (settled_value(bench, f"inductance.{k}") for k in ("saturated_inductance", "saturation_current"))
    bend = c.magnet / (c.pulse_current or rated_peak(bench.settings.plate))
    if low is None or knee is None:
        return Iron(bend=bend)
    return Iron(min(max(low.value / (0.5 * (at.ld + at.lq)), 0.01), 1.0), knee.value, bend)


def by_injection(bench: Bench) -> bool:
    """Tell whether the rotor is found at rest by injection."""
    return bench.settings.start_up.standstill == "injection"


def conditions_of(bench: Bench) -> Conditions:
    """Return what this bench's firmware gives an injection; raises Refusal where something is missing."""
    motor, ts = plant_of(bench), 1 / need(bench, "pwm.loop_hz")
    scale, whole = full_scale(bench), bench.settings.current_loop.delay_samples - 0.5
    shaft, dead = shaft_of(bench), settled_value(bench, "pwm.dead_time_voltage")
    noise = math.hypot(NOISE_OF_SCALE * scale, 2 * scale / CONVERTER_STEPS / math.sqrt(12))
    early = whole - math.floor(whole + 1e-9)
    return Conditions(
        ts, abs(1 - 2 * early), usable_voltage(bench).command, noise, rated=rated_peak(bench.settings.plate),
        current_loop=2 * math.pi * need(bench, "current_loop.bandwidth_hz"), speed_loop=speed_loop_crossover(bench),
        ramp=motor.pole_pairs * bench.settings.speed_loop.ramp,
        gain=speed_loop_crossover(bench) * shaft.inertia / (shaft.kt * motor.pole_pairs), dead=dead.value if dead else 0.0,
    )  # fmt: skip


def injection_of(bench: Bench, hand_over: float) -> Injection:
    """Judge injection on this bench, the back-EMF taking over up to the mechanical ``hand_over`` speed [rad/s].

    Where the start is by forced angle, it is judged as it would be proposed: what was entered for it holds nothing up. Raises Refusal for settings that cannot be.
    """
    s, motor = bench.settings.start_up, plant_of(bench)
    gone, asked = motor.pole_pairs * hand_over, by_injection(bench)
    return judge(
        motor, conditions_of(bench), iron_of(bench), volts=s.inject_volts if asked else None,
        natural=2 * math.pi * s.track_hz if s.track_hz and asked else None,
        pole_current=s.pole_current or align_current(bench), fades=FADES_AT * gone, gone=gone,
    )  # fmt: skip


def start_of(rows: tuple[Row, ...], bench: Bench) -> Start:
    """Return what the plant's firmware starts with: the rows and this bench's times and low speed."""
    s, dead = bench.settings.start_up, settled_value(bench, "pwm.dead_time_voltage")
    cells = [x for r in rows for x in (r.current, r.speed, r.duration, float(r.estimator))]
    cells += [0.0] * (4 * START_ROWS - len(cells))
    up = max(r.speed for r in rows)
    low = 0.0 if by_injection(bench) else s.low_current or 0.0  # injection carries it through standstill
    return Start(
        tuple(cells), float(len(rows)), ahead_most=s.ahead, wait=s.wait, blend=s.blend, lost=s.lost, catch=s.catch, low_current=low,
        low_down=s.low_share * up if low else 0.0, low_up=up if low else 0.0, dead_voltage=(1 - s.dead_share) * (dead.value if dead else 0.0), retries=float(s.retries),
    )  # fmt: skip


def firmware_of(bench: Bench) -> tuple[Start, Estimator, Injected]:
    """Return start, estimator and injection as settled, for the plant; raises Refusal where something is not."""
    motor, ts, speed = plant_of(bench), 1 / need(bench, "pwm.loop_hz"), need(bench, "start_up.hand_over")
    estimator = estimator_for(
        motor, ts, kind=KINDS[bench.settings.start_up.method], natural=2 * math.pi * need(bench, "start_up.loop_hz"), floor=need(bench, "start_up.floor"),
        hand_over=motor.pole_pairs * speed, hold=2 * math.pi * TURNS_TO_TRUST,
    )  # fmt: skip
    start = start_of(settled_rows(bench), bench)
    start = start._replace(wait=max(math.floor(start.wait / ts + 1e-6), 1) * ts)  # a firmware counts whole periods
    return start, estimator, _settled_injection(bench, motor, speed)


def _settled_injection(bench: Bench, motor: Plant, speed: float) -> Injected:
    """Return injection as settled; none where the start is by forced angle."""
    if not by_injection(bench):
        return Injected()
    volts, track, current, span = (
        need(bench, f"start_up.{k}") for k in ("inject_volts", "track_hz", "pole_current", "pole_time")
    )
    natural, gone = 2 * math.pi * track, motor.pole_pairs * speed
    return Injected(
        volts, (1 / motor.ld + 1 / motor.lq) / 2, (1 / motor.ld - 1 / motor.lq) / 2, natural, fades=FADES_AT * gone, gone=gone, settle=settle_time(natural),
        pole_current=current, pole_time=span,
    )  # fmt: skip
