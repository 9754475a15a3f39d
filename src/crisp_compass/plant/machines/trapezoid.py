"""Magnet machine phase by phase, for back-EMF that is no sine and for block commutation; compiled.

Phases of equal R and L in star, each leg at its mean potential of the carrier period. Under block commutation the third leg first
carries its current on through a diode, to the lower rail while it flows into the motor and to the upper one while it flows out, until
it is gone (commutation overlap); then it floats, unless its back-EMF opens a diode again. Within a sub-step the currents follow exactly under
constant voltages; speed and angle by Heun's rule. A zero sequence of the back-EMF moves no current and makes no torque.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.block import NONE, block_firmware, high_leg, low_leg
from crisp_compass.plant.control.field_oriented import firmware, speed_loop
from crisp_compass.plant.control.position import asked_speed
from crisp_compass.plant.control.stepping import step_firmware
from crisp_compass.plant.machines.permanent_magnet import record
from crisp_compass.plant.mechanics import drag, friction
from crisp_compass.plant.parameters import MOVE, OFF, SPEED, STEP, Drive, Trapezoid
from crisp_compass.plant.period import asked_mode, delays, guarded, keep, load_bus, loads, queue
from crisp_compass.plant.protection import shorted
from crisp_compass.plant.sensors import sense_angle, sense_speed
from crisp_compass.plant.state import (
    COS,
    COUNT,
    DRAWN,
    IA,
    ID,
    IQ,
    OMEGA,
    PHASE_A,
    PHASE_B,
    PHASE_C,
    SIN,
    SQRT3,
    SUBSTEPS,
    THETA,
    TIME,
    TORQUE,
    V_ALPHA,
    V_BETA,
    V_BUS,
)


@inlined
def shape(s: float, m: Trapezoid) -> float:
    """Return sin x + h3·sin 3x + h5·sin 5x + h7·sin 7x of s = sin x (multiple-angle formulas)."""
    q = s * s
    return s * (
        1.0 + 3.0 * m.h3 + 5.0 * m.h5 + 7.0 * m.h7
        + q * (-4.0 * m.h3 - 20.0 * m.h5 - 56.0 * m.h7 + q * (16.0 * m.h5 + 112.0 * m.h7 - 64.0 * q * m.h7))
    )  # fmt: skip


@inlined
def _lost(i: float, loss: float, over_knee: float) -> float:
    return loss * min(1.0, max(-1.0, i * over_knee))


@inlined
def advance_phases(
    x: FloatArray,
    drive: Drive,
    first: float,
    second: float,
    active: bool,
    load: float,
    holds: float,
    span: float,
    short: bool,
) -> None:
    """Advance by ``span`` seconds; ``first``, ``second`` are α and β voltage [V], under block commutation pair voltage and step; with ``short``
    all three low switches are on."""
    m, inv, block = drive.machine, drive.inverter, drive.control.block != 0.0 and not short
    if short:
        active, first, second = True, 0.0, 0.0
    p, r, psi, over_j = m.pole_pairs, m.r, m.psi, 1.0 / drive.load.inertia
    coulomb, viscous = drive.load.coulomb + holds, drive.load.viscous
    quadratic, breakaway = drive.load.quadratic, drive.load.breakaway + holds
    bus, loss, over_knee = x[V_BUS], inv.dead_voltage, 1.0 / max(inv.knee, 1e-9)
    active = active and not (block and second == NONE)
    steps = max(
        math.ceil(SUBSTEPS * span / drive.control.ts - 1e-9), math.ceil(min(16.0 * abs(p * x[OMEGA] * span), 96.0))
    )
    h = span / steps
    fade, over_r = math.exp(-r / m.lq * h), 1.0 / r
    ia, ib, ic, w, th = x[PHASE_A], x[PHASE_B], x[PHASE_C], x[OMEGA], x[THETA]
    step = int(second) if block else 0
    high, low = high_leg(step), low_leg(step)
    off = 3 - high - low
    va, vb, vc = first, -0.5 * first + 0.5 * SQRT3 * second, -0.5 * first - 0.5 * SQRT3 * second
    if block:
        up, down = max(first, 0.0), max(-first, 0.0)
        va = up if high == 0 else down if low == 0 else 0.0
        vb = up if high == 1 else down if low == 1 else 0.0
        vc = up if high == 2 else down if low == 2 else 0.0
    torque, last = 0.0, friction(x[TORQUE] - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
    for _ in range(steps):
        half_way = w + 0.5 * h * last  # speed and angle in the middle of the sub-step
        at = p * (th + 0.5 * h * half_way)
        s, c = math.sin(at), math.cos(at)
        fa = -p * psi * shape(s, m)
        fb = -p * psi * shape(-0.5 * s - 0.5 * SQRT3 * c, m)
        fc = -p * psi * shape(-0.5 * s + 0.5 * SQRT3 * c, m)
        a0, b0, c0 = ia, ib, ic
        if active:
            ua = va - fa * half_way - (_lost(ia, loss, over_knee) if loss > 0.0 else 0.0)
            ub = vb - fb * half_way - (_lost(ib, loss, over_knee) if loss > 0.0 else 0.0)
            uc = vc - fc * half_way - (_lost(ic, loss, over_knee) if loss > 0.0 else 0.0)
            floats = False
            if block:  # what the leg that is off stands at: a rail while a diode carries its current, else it floats
                i_off = ia if off == 0 else ib if off == 1 else ic
                e_off = (fa if off == 0 else fb if off == 1 else fc) * half_way
                middle = 0.5 * (ua + ub + uc + e_off)
                rail = 0.0 if i_off > 0.0 else bus
                if i_off == 0.0:
                    stands = middle + e_off
                    floats = 0.0 <= stands <= bus
                    rail = 0.0 if stands < 0.0 else bus
                u_off = rail - e_off
                if off == 0:
                    ua = u_off
                elif off == 1:
                    ub = u_off
                else:
                    uc = u_off
            star = middle if floats else (ua + ub + uc) / 3.0
            ga, gb, gc = (ua - star) * over_r, (ub - star) * over_r, (uc - star) * over_r
            if floats:
                ga, gb, gc = (0.0 if off == 0 else ga), (0.0 if off == 1 else gb), (0.0 if off == 2 else gc)
            ia, ib, ic = ga + (ia - ga) * fade, gb + (ib - gb) * fade, gc + (ic - gc) * fade
            if block and not floats:
                before = a0 if off == 0 else b0 if off == 1 else c0
                after = ia if off == 0 else ib if off == 1 else ic
                wrong = before * after < 0.0 or (
                    before == 0.0 and ((rail == bus and after > 0.0) or (rail == 0.0 and after < 0.0))
                )
                if wrong:  # the diode blocks
                    share = 0.5 * after
                    ia = 0.0 if off == 0 else ia + share
                    ib = 0.0 if off == 1 else ib + share
                    ic = 0.0 if off == 2 else ic + share
        elif ia != 0.0 or ib != 0.0 or ic != 0.0:  # diodes return the current to the supply until it is gone
            size = math.sqrt(2.0 / 3.0 * (ia * ia + ib * ib + ic * ic))
            left = max(size - h * (0.6 * bus + r * size) / m.lq, 0.0) / size
            ia, ib, ic = ia * left, ib * left, ic * left
        torque = 0.5 * (fa * (a0 + ia) + fb * (b0 + ib) + fc * (c0 + ic))
        k1 = friction(torque - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
        trial = w + h * k1
        if w * trial < 0.0:
            trial = 0.0
        k2 = friction(torque - drag(viscous, quadratic, trial) - load, trial, coulomb, breakaway) * over_j
        fresh = w + 0.5 * h * (k1 + k2)
        if w * fresh < 0.0:
            fresh = 0.0
        th += 0.5 * h * (w + fresh)
        w, last = fresh, 0.5 * (k1 + k2)
    x[PHASE_A], x[PHASE_B], x[PHASE_C], x[OMEGA], x[THETA], x[TORQUE] = ia, ib, ic, w, th, torque
    c, s = math.cos(p * th), math.sin(p * th)
    alpha, beta = ia, (ib - ic) / SQRT3
    x[COS], x[SIN], x[ID], x[IQ] = c, s, alpha * c + beta * s, beta * c - alpha * s


@inlined
def _given(x: FloatArray, first: float, second: float, block: bool) -> float:
    """Return the power [W] that the bridge gives at this moment: of all three phases, or of the two that a step connects."""
    if not block:
        return float(1.5 * (first * x[PHASE_A] + second * (x[PHASE_B] - x[PHASE_C]) / SQRT3))
    if second == NONE:
        return 0.0
    high, low = high_leg(int(second)), low_leg(int(second))
    return float(max(first, 0.0) * x[PHASE_A + high] + max(-first, 0.0) * x[PHASE_A + low])


@compiled
def run_phases(
    x: FloatArray,
    drive: Drive,
    inputs: FloatArray,
    edges: FloatArray,
    table_edges: FloatArray,
    steps: int,
    every: int,
    out: FloatArray,
) -> int:
    """Advance ``steps`` sampling periods; arguments and return as for the other machines' runs. Under block commutation the
    recorded ``i_q`` is the current of the two phases that carry it."""
    c = drive.control
    block = c.block != 0.0
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
        te = drive.machine.pole_pairs * x[THETA]
        x[COS], x[SIN] = math.cos(te), math.sin(te)
        sense_angle(x, drive, edges, table_edges)
        if speed_phase == 0:
            sense_speed(x, drive)
            if mode in (SPEED, MOVE):
                speed_loop(x, drive, asked_speed(x, drive, inputs, mode))
        speed_phase = speed_phase + 1 if speed_phase + 1 < divider else 0
        if mode == STEP:  # a field that is turned whatever the rotor does: the test of a bench
            first, second = step_firmware(x, drive, inputs, STEP, False)
        else:
            first, second = block_firmware(x, drive, inputs, mode) if block else firmware(x, drive, inputs, mode)
        mode = guarded(x, drive, mode)
        short = shorted(x, c)
        if row_phase == 0 and rows < len(out) and not states:
            record(x, out[rows], te, False)
            out[rows][9], out[rows][10], out[rows][11] = x[PHASE_A], x[PHASE_B], x[PHASE_C]
            if block:
                out[rows][6] = x[IA]
            rows += 1
        row_phase = row_phase + 1 if row_phase + 1 < every else 0
        queue(x, whole, first, second)
        drives, holds = loads(x, drive, inputs)
        for earlier in range(
            1 if early > 0.0 else 0, -1, -1
        ):  # the voltage before first, where it still stands for a while
            span = early if earlier == 1 else c.ts - early
            va, vb = float(x[V_ALPHA + whole + earlier]), float(x[V_BETA + whole + earlier])
            before = _given(x, va, vb, block)
            advance_phases(x, drive, va, vb, mode != OFF, drives, holds, span, short)
            if mode != OFF and not short:
                x[DRAWN] += 0.5 * (before + _given(x, va, vb, block)) * span / c.ts
        x[TIME] += c.ts
    return rows


#: Whole runs by the machine they run.
KERNELS = {Trapezoid: run_phases}
