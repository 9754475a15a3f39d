"""A drive to try things on before the loops are tuned.

Where current and speed loop are not settled yet, modest ones stand in: crossover a twentieth of the loop rate, the
symmetric optimum with a = 4.
"""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import rated_peak
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.course.drive import build_drive, machine_of, sensing_of, sensor_of
from crisp_compass.errors import Refusal
from crisp_compass.loops.current import current_gains, limit_tracking
from crisp_compass.loops.speed import tune_speed
from crisp_compass.plant.parameters import Control, Drive, Inverter
from crisp_compass.sensing.sensor import ARMATURE


def untuned_drive(bench: Bench) -> Drive:
    """Return the bench's drive, with stand-in loops where they are not settled; raises Refusal naming what is missing."""
    try:
        return build_drive(bench)
    except Refusal:
        machine, load = machine_of(bench)
    plate, run = bench.settings.plate, bench.settings.run
    loop = settled_value(bench, "pwm.loop_hz")
    loop_hz = loop.value if loop else bench.settings.pwm.carrier_hz
    kp_d, ki_d = current_gains(machine.r, machine.ld, bandwidth_hz=loop_hz / 20, delay=1.5 / loop_hz)
    kp_q, ki_q = current_gains(machine.r, machine.lq, bandwidth_hz=loop_hz / 20, delay=1.5 / loop_hz)
    divider, filter_hz = 10.0, loop_hz / 60
    speed = tune_speed(
        inertia=load.inertia, kt=machine.torque_factor * machine.pole_pairs * machine.psi, viscous=load.viscous, loop_hz=loop_hz / divider,
        current_bandwidth_hz=loop_hz / 20, filter_hz=filter_hz, a=4.0,
    )  # fmt: skip
    limit = rated_peak(bench.settings.plate)
    full_scale = max(2.5 * run.i_trip, 5 * limit, 1.0)
    control = Control(
        ts=1 / loop_hz, kp_d=kp_d, ki_d=ki_d, kp_q=kp_q, ki_q=ki_q, speed_divider=divider, kp_speed=speed.kp, ki_speed=speed.ki,
        speed_filter=2 * math.pi * filter_hz, i_limit=limit, i_trip=3 * limit, ramp=bench.settings.speed_loop.ramp, stall_time=0.5,
        decouple=0.0 if sensor_of(bench) == ARMATURE else 1.0, ld=machine.ld, lq=machine.lq, psi=machine.psi, track_d=limit_tracking(kp_d, ki_d, 1 / loop_hz, machine.r, l_axis=machine.ld),
        track_q=limit_tracking(kp_q, ki_q, 1 / loop_hz, machine.r, l_axis=machine.lq),
        delay_samples=bench.settings.current_loop.delay_samples, volts_per_bus=usable_voltage(bench).per_bus, r=machine.r, compensation=bench.settings.speed_loop.compensation,
    )  # fmt: skip
    inverter = Inverter(v_supply=plate.v_bus, r_supply=0.05, knee=0.01)
    return Drive(machine, load, inverter, sensing_of(bench, full_scale), control=control)
