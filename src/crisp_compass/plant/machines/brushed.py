"""Brushed motor between the two legs of a bridge, with its current and speed loop; compiled.

v = R·i + L·di/dt + Ke·ω + V0·sign(i), torque Ke·i. Within a sub-step the current follows exactly (the drop and the voltage are
constant); where it would pass zero against the brushes' drop it rests there. Speed and angle by Heun's rule. The state and the
recorded rows are those of the other machines: the armature is their q axis.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.field_oriented import regulate
from crisp_compass.plant.control.position import asked_speed
from crisp_compass.plant.control.speed import forget_reference, rolled, speed_step
from crisp_compass.plant.mechanics import drag, friction
from crisp_compass.plant.parameters import ALIGN, CURRENT, MOVE, OFF, SPEED, Brushed, Drive
from crisp_compass.plant.period import asked_mode, delays, guarded, keep, load_bus, loads, queue
from crisp_compass.plant.protection import shorted
from crisp_compass.plant.sensors import read_current, sense_speed
from crisp_compass.plant.state import (
    AT,
    COUNT,
    DRAWN,
    IA,
    ID_REF,
    IN_ID,
    IN_IQ,
    INT_Q,
    INT_SPEED,
    IQ,
    IQ_REF,
    OMEGA,
    REF,
    SPEED_SEEN,
    SUBSTEPS,
    THETA,
    TIME,
    TORQUE,
    V_ALPHA,
    V_BUS,
    VQ,
)
from crisp_compass.sensing.sensor import ARMATURE


@inlined
def _flow(i: float, volts: float, drop: float, r: float, fade: float) -> float:
    """Return the current after a sub-step under ``volts`` less the brushes' drop, which never drives it."""
    sense = 1.0 if i > 0.0 else -1.0 if i < 0.0 else (1.0 if volts > 0.0 else -1.0)
    if i == 0.0 and abs(volts) <= drop:
        return 0.0
    goal = (volts - drop * sense) / r
    after = goal + (i - goal) * fade
    return 0.0 if after * sense < 0.0 else float(after)


@inlined
def advance_armature(
    x: FloatArray, drive: Drive, volts: float, active: bool, load: float, holds: float, span: float
) -> None:
    """Advance the motor by ``span`` seconds under one voltage; ``load`` drives, ``holds`` only brakes [N·m]."""
    m, inv = drive.machine, drive.inverter
    over_j, coulomb, viscous = 1.0 / drive.load.inertia, drive.load.coulomb + holds, drive.load.viscous
    quadratic, breakaway = drive.load.quadratic, drive.load.breakaway + holds
    sticks = max(coulomb, breakaway) > 0.0
    h = span / SUBSTEPS
    fade = math.exp(-m.r / m.lq * h)
    drop = m.drop + (inv.dead_voltage if active else 0.0)
    i, w, th = x[IQ], x[OMEGA], x[THETA]
    last = friction(x[TORQUE] - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
    for _ in range(SUBSTEPS):
        if active:
            # the back-EMF of the middle of the sub-step
            after = _flow(i, volts - m.psi * (w + 0.5 * h * last), drop, m.r, fade)
        else:  # diodes return the current to the supply until it is gone
            size = max(abs(i) - h * (x[V_BUS] + m.r * abs(i)) / m.lq, 0.0)
            after = size if i > 0.0 else -size
        mean = 0.5 * (i + after)
        first = friction(m.psi * mean - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
        trial = w + h * first
        if sticks and w * trial < 0.0:
            trial = 0.0
        second = friction(m.psi * mean - drag(viscous, quadratic, trial) - load, trial, coulomb, breakaway) * over_j
        fresh = w + 0.5 * h * (first + second)
        if sticks and w * fresh < 0.0:  # friction stops the shaft before it can reverse it
            fresh = 0.0
        th += 0.5 * h * (w + fresh)
        i, w, last = after, fresh, 0.5 * (first + second)
    x[IQ], x[OMEGA], x[THETA], x[TORQUE] = i, w, th, m.psi * i


@inlined
def _armature_speed(x: FloatArray, drive: Drive) -> None:
    """Tell the speed from the voltage that was put on the armature, less the share of the drop that is compensated."""
    c = drive.control
    raw = (x[VQ] - c.compensation * c.r * x[IA]) / c.psi
    period = c.ts * c.speed_divider
    share = 1.0 - math.exp(-c.speed_filter * period) if c.speed_filter > 0 else 1.0
    x[SPEED_SEEN] += share * (raw - x[SPEED_SEEN])


@inlined
def _command(x: FloatArray, drive: Drive, inputs: FloatArray, mode: int) -> float:
    """Run the current controller of one period; return the voltage it commands."""
    c, s = drive.control, drive.sensing
    if mode == OFF:
        x[INT_Q] = x[INT_SPEED] = x[IQ_REF] = x[VQ] = x[IA] = 0.0  # an old current would tell a speed that is none
        forget_reference(x, drive.control, x[SPEED_SEEN], 0.0)
        return 0.0
    if mode == ALIGN:  # a voltage held
        x[VQ] = inputs[IN_ID]
        return float(inputs[IN_ID])
    if mode == CURRENT:
        x[IQ_REF] = rolled(x, c, inputs[IN_IQ])
    x[ID_REF] = 0.0
    x[IA] = read_current(x, x[IQ], s.offset_a, s.noise, s.step, s.full_scale)
    feed = x[SPEED_SEEN] * c.psi * c.decouple
    limit = x[V_BUS] * c.volts_per_bus
    _, x[VQ], _, x[INT_Q] = regulate(c, 0.0, x[INT_Q], 0.0, x[IQ_REF] - x[IA], 0.0, feed, limit)
    return float(x[VQ])


@compiled
def _record_armature(x: FloatArray, row: FloatArray) -> None:
    """Write one row in the order of ``OUT``: the armature stands on the q axis and as i_a."""
    row[0], row[1], row[2] = x[TIME], x[REF], x[OMEGA]
    row[3] = row[4] = row[7] = row[10] = row[11] = 0.0
    row[5], row[6], row[8], row[9] = x[IQ_REF], x[IQ], x[VQ], x[IQ]
    row[12], row[13], row[14], row[15] = x[V_BUS], x[TORQUE], x[THETA], x[THETA]
    row[16], row[17], row[22] = x[SPEED_SEEN], x[THETA], x[AT]


@compiled
def run_brushed(
    x: FloatArray,
    drive: Drive,
    inputs: FloatArray,
    edges: FloatArray,
    table_edges: FloatArray,
    steps: int,
    every: int,
    out: FloatArray,
) -> int:
    """Advance ``steps`` sampling periods; arguments and return as for the other machines' runs (``edges`` are not used)."""
    c = drive.control
    whole, early = delays(c)
    rows, divider = 0, int(c.speed_divider)
    speed_phase, row_phase = int(x[COUNT]) % divider, int(x[COUNT]) % every
    x[COUNT] += float(steps)
    states = out.shape[1] == len(x)
    for _ in range(steps):
        if states and rows < len(out):
            keep(x, out[rows])
            rows += 1
        mode = asked_mode(x, inputs)
        load_bus(x, drive, inputs)
        x[DRAWN] = 0.0
        if speed_phase == 0:
            if drive.sensing.angle_sensor == ARMATURE:
                _armature_speed(x, drive)
            else:
                sense_speed(x, drive)
            if mode in (SPEED, MOVE):
                speed_step(x, drive.control, asked_speed(x, drive, inputs, mode), -drive.control.i_limit, drive.control.i_limit)
        speed_phase = speed_phase + 1 if speed_phase + 1 < divider else 0
        fresh = _command(x, drive, inputs, mode)
        mode = guarded(x, drive, mode)
        short = shorted(x, c)
        if row_phase == 0 and rows < len(out) and not states:
            _record_armature(x, out[rows])
            rows += 1
        row_phase = row_phase + 1 if row_phase + 1 < every else 0
        queue(x, whole, fresh, 0.0)
        drives, holds = loads(x, drive, inputs)
        for earlier in range(
            1 if early > 0.0 else 0, -1, -1
        ):  # the voltage before first, where it still stands for a while
            span = early if earlier == 1 else c.ts - early
            volts = 0.0 if short else x[V_ALPHA + whole + earlier]
            before = float(x[IQ])
            advance_armature(x, drive, volts, short or mode != OFF, drives, holds, span)
            if mode != OFF and not short:
                x[DRAWN] += 0.5 * volts * (before + x[IQ]) * span / c.ts
        x[TIME] += c.ts
    return rows


#: Whole runs by the machine they run.
KERNELS = {Brushed: run_brushed}
