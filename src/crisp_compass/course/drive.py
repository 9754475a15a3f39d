"""The drive of a bench: machine, load, bridge, sensors and firmware as settled, and the machine alone from the best there is."""

from __future__ import annotations

import math
from typing import Any

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.course.block import block_machine, in_blocks
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.bus import inverter_of, watched
from crisp_compass.course.circuit import hertz_law
from crisp_compass.course.coupling import on_the_shaft
from crisp_compass.course.known import Constant, best_value
from crisp_compass.course.observed import check_hand_over, observes
from crisp_compass.course.observed import firmware_of as observer_of
from crisp_compass.course.open_loop import closes_loops, stepping_current, steps_open
from crisp_compass.course.position import firmware_of as position_of
from crisp_compass.course.position import holds_position, speed_period
from crisp_compass.course.sensorless import (
    CONVERTER_STEPS,
    NOISE_OF_SCALE,
    by_injection,
    firmware_of,
    full_scale,
    iron_of,
    without_sensor,
)
from crisp_compass.course.speed_design import ahead_of_the_loop, filters_of, torque_constant
from crisp_compass.course.torque_mode import drag_cancel
from crisp_compass.course.waypoints.commutation import hall_edges, uses_halls
from crisp_compass.course.waypoints.current_loop import current_tracking
from crisp_compass.errors import Refusal
from crisp_compass.modulation.full_bridge import lost_voltage
from crisp_compass.motor import family_of, flux_of, pole_pairs_of, three_phases, turns_field, winding_of
from crisp_compass.motor.family import Constants
from crisp_compass.plant.parameters import (
    HERTZ,
    SPEED,
    STEP,
    AnyMachine,
    Control,
    Drive,
    Load,
    Machine,
    Sensing,
)
from crisp_compass.sensing import SENSORS
from crisp_compass.sensing.sensor import ARMATURE, OBSERVER

_NEEDED: tuple[tuple[Constant, str], ...] = (
    ("resistance", "resistance"), ("ld", "inductance"), ("lq", "inductance"), ("flux_linkage", "flux"),
)  # fmt: skip


def _iron(bench: Bench, inductance: float) -> tuple[float, float]:
    """Return the share of the inductance that stays in saturated iron, and the current [A] around which it falls."""
    low, knee = (settled_value(bench, f"inductance.{k}") for k in ("saturated_inductance", "saturation_current"))
    if low is None or knee is None:
        return 1.0, 1.0
    return min(max(low.value / inductance, 0.01), 1.0), knee.value


def sensor_of(bench: Bench) -> int:
    """Return what tells the plant's firmware angle or speed; without a sensor an estimator does, or a brushed motor's armature voltage."""
    if without_sensor(bench) or observes(bench):
        return OBSERVER
    return SENSORS[bench.settings.sensor.kind].kernel


def plate_needs_angle(bench: Bench) -> bool:
    """Tell whether the loops of this motor need a sensor's angle: a stepper's and an induction motor's do."""
    return turns_field(bench) and closes_loops(bench) and not without_sensor(bench) and not observes(bench) and not steps_open(bench)


def sensing_of(bench: Bench, full_scale: float) -> Sensing:
    """Return what the firmware senses with: twelve bits over ``full_scale`` [A] and the bench's angle sensor.

    Raises Refusal where there is none.
    """
    sensor, counts = SENSORS[bench.settings.sensor.kind], bench.settings.sensor.counts_per_rev
    if sensor.key not in ("none", *bench.settings.plate.sensors):
        raise Refusal(
            f"{bench.settings.plate.called} takes no {sensor.called} as angle sensor",
            "choose another one on the plate",
            field="sensor.kind",
        )
    if not sensor.tells_angle and plate_needs_angle(bench):
        raise Refusal(
            "the bench has no angle sensor",
            "choose one on the plate: this kind of motor is not run closed-loop without",
        )
    return Sensing(
        full_scale=full_scale,
        step=2 * full_scale / CONVERTER_STEPS,
        noise=full_scale * NOISE_OF_SCALE,
        angle_sensor=float(sensor_of(bench)),
        counts_per_rev=float(counts) if sensor.steps is None else sensor.steps,
    )


def _bridge_loss(bench: Bench, lost: float) -> float:
    """Return what the plant's bridge loses [V]: a leg of a star, or all switching legs of a winding."""
    return lost if three_phases(bench) else lost_voltage(lost, bench.settings.pwm.decay)[0]


def build_drive(bench: Bench) -> Drive:
    """Assemble the simulated drive from settled values; raises Refusal naming what is missing."""
    bench = standing(bench)
    if not closes_loops(bench):
        return hertz_drive(bench)
    winding, psi = winding_of(bench), flux_of(bench)
    r, ld, lq = winding.r, winding.ld, winding.lq
    run = bench.settings.run
    loop_hz = need(bench, "pwm.loop_hz")
    kp_d, ki_d, kp_q, ki_q = (need(bench, f"current_loop.{k}") for k in ("kp_d", "ki_d", "kp_q", "ki_q"))
    if steps_open(bench):  # nothing tells a speed: the field turns along a ramp of its own
        kp = ki = filter_hz = 0.0
        # the ramp to a speed runs every period; the profile of a move in steps of its own
        speed_hz, ramp = 1 / speed_period(bench) if holds_position(bench) else loop_hz, bench.settings.stepping.ramp
    else:
        kp, ki, speed_hz = (need(bench, f"speed_loop.{k}") for k in ("kp", "ki", "loop_hz"))
        filter_hz, ramp = need(bench, "speed_loop.filter_hz"), need(bench, "speed_loop.ramp")
    if uses_halls(bench) and hall_edges(bench) is None:
        raise Refusal("the hall table is not settled", "settle it on the commutation leg first")
    tracks = current_tracking(bench)
    control = Control(
        ts=1 / loop_hz, kp_d=kp_d, ki_d=ki_d, kp_q=kp_q, ki_q=ki_q, speed_divider=max(round(loop_hz / speed_hz), 1), kp_speed=kp, ki_speed=ki,
        speed_filter=2 * math.pi * filter_hz, i_limit=run.i_limit, i_trip=run.i_trip, v_min=run.v_min, v_max=run.v_max or 1e9, speed_trip=run.speed_trip or 1e9, ramp=ramp, stall_time=stall_of(bench),
        decouple=0.0 if sensor_of(bench) == ARMATURE else 1.0, microsteps=float(bench.settings.stepping.microsteps) if steps_open(bench) else 0.0, ld=ld, lq=lq, psi=psi, track_d=tracks[0], track_q=tracks[1],
        delay_samples=bench.settings.current_loop.delay_samples, volts_per_bus=usable_voltage(bench).per_bus, r=r, compensation=bench.settings.speed_loop.compensation,
    )  # fmt: skip
    if steps_open(bench):
        control = control._replace(idle_share=bench.settings.stepping.idle, **position_of(bench, control.ts * control.speed_divider))
    else:
        control = control._replace(**_around_the_loop(bench, control), **position_of(bench, control.ts * control.speed_divider), **power_limits(bench), **drag_cancel(bench))
    control = control._replace(**family_of(bench).believed(bench), **_protection(bench), **_weakening(bench, control), **watched(bench, closes=not steps_open(bench)))
    if family_of(bench).own_circuit and bench.settings.circuit.field_off is not None:
        control = control._replace(field_off=bench.settings.circuit.field_off)
    if in_blocks(bench):
        machine: AnyMachine = block_machine(bench, r, 0.5 * (ld + lq))
        control = control._replace(block=1.0, advance=bench.settings.current_loop.advance)
    else:
        of = Constants(r, ld, lq, psi, pole_pairs=need(bench, "plate.pole_pairs"), iron=_iron(bench, (ld + lq) / 2))
        machine = family_of(bench).machine(bench, of)
        if without_sensor(bench) and by_injection(bench):
            machine = with_biased_iron(bench, machine)
    return _assembled(bench, machine, control)


def _around_the_loop(bench: Bench, c: Control) -> dict[str, float]:
    """Return what stands ahead of the speed loop and behind it: set-point, rounding of the ramp, feed-forward, filters of the torque current."""
    s, step, filters = bench.settings.speed_loop, c.ts * c.speed_divider, filters_of(bench)
    found = {"torque_share": filters.share(step)}
    if s.set_point == "filtered" and c.kp_speed > 0:
        found |= {"set_point": c.ki_speed / c.kp_speed, "set_weight": s.set_weight}
    if s.rounding:
        found["jerk"] = c.ramp / s.rounding
    if s.slow_below:
        found |= {"slow_below": s.slow_below, "slow_share": s.slow_share}
    found |= {f"ahead_{k.removesuffix('_friction')}": v for k, v in ahead_of_the_loop(bench).items()}
    if filters.notch:
        found |= dict(zip(("notch_b0", "notch_b1", "notch_b2", "notch_a1", "notch_a2"), filters.notch.coefficients(step), strict=True))
    return found


def with_biased_iron(bench: Bench, machine: AnyMachine) -> AnyMachine:
    """Return the machine with the iron that tells its poles apart."""
    iron = iron_of(bench)
    return (
        machine._replace(saturated=iron.rest, i_sat=iron.knee, bend=iron.bend)
        if isinstance(machine, Machine)
        else machine
    )


def _assembled(bench: Bench, machine: AnyMachine, control: Control) -> Drive:
    """Put machine and firmware between the bench's load, bridge and sensors."""
    run, dead = bench.settings.run, settled_value(bench, "pwm.dead_time_voltage")
    load = Load(need(bench, "mechanics.inertia") + run.flywheel, need(bench, "mechanics.viscous_friction"), need(bench, "mechanics.coulomb_friction"), run.quadratic, breakaway=run.breakaway, swing=run.swing, swing_order=run.swing_order)
    return Drive(
        machine,
        on_the_shaft(bench, load, control.ts),
        inverter_of(bench, lost=_bridge_loss(bench, dead.value if dead else 0.0), knee=max(0.02 * run.i_trip, 1e-3)),
        sensing_of(bench, full_scale(bench)), control, *_unsensed(bench, control),
    )  # fmt: skip


def _unsensed(bench: Bench, c: Control) -> tuple[Any, ...]:
    """Return what the firmware runs without a sensor; nothing with one."""
    if observes(bench):
        check_hand_over(bench)
        return observer_of(bench, c.ts, c.speed_filter / (2 * math.pi))
    return firmware_of(bench) if without_sensor(bench) else ()


def hertz_drive(bench: Bench) -> Drive:
    """Assemble the drive of an induction motor whose firmware turns a voltage and closes no loop."""
    run, law, settings = bench.settings.run, hertz_law(bench), bench.settings
    control = Control(
        ts=1 / need(bench, "pwm.loop_hz"), speed_filter=100.0, i_limit=run.i_limit, i_trip=run.i_trip, v_min=run.v_min, v_max=run.v_max or 1e9, speed_trip=run.speed_trip or 1e9, ramp=settings.speed_loop.ramp,
        delay_samples=settings.current_loop.delay_samples, volts_per_bus=usable_voltage(bench).per_bus, boost=law.boost, stall_time=stall_of(bench),
        ld=need(bench, "circuit.leakage_inductance"), lq=need(bench, "circuit.leakage_inductance"),
        volts_per_rad=law.volts_per_rad, slip_share=settings.circuit.slip_share, **{k: v for k, v in family_of(bench).believed(bench).items() if k != "flux_share"},
    )  # fmt: skip
    return _assembled(bench, family_of(bench).machine(bench, None), control._replace(**_protection(bench), **watched(bench, closes=False)))


def stall_of(bench: Bench) -> float:
    """Return how long full current may stand at standstill [s]; 1e9: for ever."""
    asked = bench.settings.run.stall_time
    return 1e9 if asked is None else asked


def power_limits(bench: Bench) -> dict[str, float]:
    """Return what the speed loop may take from the bus and give to it [W], with torque constant and copper as the firmware believes them; nothing where neither is entered."""
    s = bench.settings.bus
    if s.power_from is None and s.power_into is None:
        return {}
    factor = 2.0 if in_blocks(bench) else bench.settings.plate.torque_factor
    return {"power_from": s.power_from or 0.0, "power_into": s.power_into or 0.0, "power_kt": torque_constant(bench), "power_r": factor * winding_of(bench).r}


def weakens(bench: Bench) -> bool:
    """Tell whether this firmware can weaken the field of magnets: a current vector in the rotor's frame, closed on speed."""
    magnets = turns_field(bench) and not family_of(bench).own_circuit
    return magnets and closes_loops(bench) and not steps_open(bench) and not in_blocks(bench)


def can_brake(bench: Bench) -> bool:
    """Tell whether shorted windings brake: a magnet's do, a rotor without one is soon without a field."""
    return not family_of(bench).own_circuit


def most_weakening(psi: float, ld: float, i_limit: float) -> float:
    """Return the most i_d [A] against the magnet that still lowers the voltage, whatever the constants are off by, and leaves current for torque."""
    return min(0.8 * psi / ld, 0.98 * i_limit)


def weakening_current(bench: Bench) -> float | None:
    """Return the most i_d [A] against the magnet that this bench's firmware takes; None where it does not weaken."""
    asked = bench.settings.run.weakening
    if asked is None or not weakens(bench):
        return None
    return min(asked, most_weakening(flux_of(bench), winding_of(bench).ld, bench.settings.run.i_limit))


def overloads(bench: Bench) -> bool:
    """Tell whether a continuous current below the limit is set, which makes an overload something that can be."""
    run = bench.settings.run
    return run.i_continuous is not None and run.i_continuous < run.i_limit


def _weakening(bench: Bench, c: Control) -> dict[str, float]:
    """Return most i_d and the rate of the integrator: a tenth of the current loop's crossover, and no more than a fifth of the way a speed step."""
    most = weakening_current(bench)
    if most is None:
        return {}
    rate = min(0.1 * c.kp_d / c.ld, 0.2 / (c.ts * c.speed_divider))
    return {"i_weak": most, "weak_rate": rate}


def _protection(bench: Bench) -> dict[str, float]:
    """Return the overload trip, where a continuous current below the limit is set, and what a fault does."""
    run = bench.settings.run
    found = {"brakes": 1.0 if run.on_fault == "brake" and can_brake(bench) else 0.0}
    if overloads(bench):
        assert run.i_continuous is not None
        found |= {
            "i_continuous": run.i_continuous,
            "i2t": (run.i_limit**2 - run.i_continuous**2) * run.overload_time,
        }
    return found


def running_mode(bench: Bench) -> int:
    """Return the mode of the firmware that turns the shaft at a speed."""
    return STEP if steps_open(bench) else SPEED if closes_loops(bench) else HERTZ


def sees_speed(bench: Bench) -> bool:
    """Tell whether the firmware knows a speed that could pass a limit: a voltage or a field that is turned tells none."""
    return running_mode(bench) == SPEED


def running_current(bench: Bench) -> float:
    """Return the current [A peak] that goes with :func:`running_mode`: that of the turned field where nothing measures the angle, else none."""
    return stepping_current(bench) if steps_open(bench) else 0.0


def machine_of(bench: Bench) -> tuple[AnyMachine, Load]:
    """Return machine and load from what is settled, else from the best capture, reading or plate figure there is.

    Raises Refusal naming what is known from nowhere.
    """
    family, values = family_of(bench), []
    if family.own_circuit:
        return family.machine(bench, None), load_of(bench)
    for constant, waypoint in _NEEDED:
        value = best_value(bench, constant)
        if value is None:
            raise Refusal(
                f"the {waypoint} is missing",
                f"measure it on the {waypoint} leg, or write the data sheet's on the plate",
            )
        values.append(value)
    r, ld, lq, psi = values
    of = Constants(r, ld, lq, psi, pole_pairs=float(pole_pairs_of(bench.settings.plate)))
    return family.machine(bench, of), load_of(bench)


def load_of(bench: Bench) -> Load:
    """Return inertia and friction as settled, else the plate's; raises Refusal where no inertia is known."""
    plate = bench.settings.plate
    inertia, viscous, coulomb = (
        settled_value(bench, f"mechanics.{k}") for k in ("inertia", "viscous_friction", "coulomb_friction")
    )
    turning = inertia.value if inertia else plate.inertia
    if turning is None:
        raise Refusal("the inertia is missing", "measure it on the mechanics leg, or enter the data sheet's there")
    return Load(
        turning + bench.settings.run.flywheel,
        viscous.value if viscous else plate.viscous,
        coulomb.value if coulomb else plate.coulomb,
    )


def unsettled_inputs(bench: Bench) -> str:
    """Return which figures of a trial run are not settled ones, in a sentence; empty where all are."""
    unsettled = [
        waypoint for waypoint in dict.fromkeys(waypoint for _, waypoint in _NEEDED) if waypoint not in bench.settled
    ]
    parts = [f"{', '.join(unsettled)} from the best capture, reading or data sheet"] if unsettled else []
    if not {"current_loop", "speed_loop", "pwm"} <= set(bench.settled):
        parts.append("stand-in loops")
    return f"Not settled: {'; '.join(parts)}." if parts else ""
