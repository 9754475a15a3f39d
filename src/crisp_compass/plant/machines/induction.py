"""Induction machine by its inverse-Γ circuit, fed by an inverter or by the mains; compiled.

In the stator's frame, ω the electrical speed (G. R. Slemon, IEEE Trans. Ind. Appl. 25, 1989, 1126–1131):

    v = Rs·i + Lσ·di/dt + dψ/dt,   dψ/dt = RR·i − (RR/LM − jω)·ψ,   T = 1.5·p·(ψ_α·i_β − ψ_β·i_α)

The current by the exponential rule of the other machines, whose decay (Rs + RR)/Lσ is exact; the flux by its own decay and turn, exact
but for what the current adds within a sub-step; speed by Heun's rule. Recorded d and q are those of the true rotor flux, ``theta_e``
is its angle and ``theta_seen`` where the firmware believes it.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.position import asked_speed
from crisp_compass.plant.control.rotor_field import ask_speed, rotor_firmware
from crisp_compass.plant.control.rotor_observer import observed_firmware
from crisp_compass.plant.machines.permanent_magnet import decay_weights
from crisp_compass.plant.mechanics import drag, friction
from crisp_compass.plant.parameters import CURRENT, MAINS, MOVE, OFF, SPEED, Drive, Induction
from crisp_compass.plant.period import asked_mode, delays, guarded, keep, load_bus, loads, queue
from crisp_compass.plant.sensors import sense_angle, sense_speed
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    AT,
    COUNT,
    DRAWN,
    I_ALPHA,
    I_BETA,
    ID,
    ID_REF,
    IQ,
    IQ_REF,
    OMEGA,
    PHASE,
    PSI_ALPHA,
    PSI_BETA,
    REF,
    SPEED_SEEN,
    SQRT3,
    SUBSTEPS,
    THETA,
    TIME,
    TORQUE,
    V_ALPHA,
    V_BETA,
    V_BUS,
    VD,
    VQ,
)
from crisp_compass.sensing.sensor import OBSERVER


@inlined
def _fed(
    va: float, vb: float, ia: float, ib: float, third: float, over_root: float, over_knee: float
) -> tuple[float, float]:
    """Return the voltage at the winding: what the inverter sets, less the loss of its dead time against the current."""
    if third <= 0.0:
        return va, vb
    half = 0.5 * SQRT3 * ib
    ea = min(1.0, max(-1.0, ia * over_knee))
    eb = min(1.0, max(-1.0, (half - 0.5 * ia) * over_knee))
    ec = min(1.0, max(-1.0, (-half - 0.5 * ia) * over_knee))
    return va - third * (2.0 * ea - eb - ec), vb - over_root * (eb - ec)


@inlined
def advance_induction(
    x: FloatArray, drive: Drive, va: float, vb: float, active: bool, load: float, holds: float, span: float
) -> None:
    """Advance the machine by ``span`` seconds under one stationary voltage; ``load`` drives, ``holds`` only brakes [N·m]."""
    m, inv = drive.machine, drive.inverter
    p, over_l, rate, rr = m.pole_pairs, 1.0 / m.ld, (m.r + m.rr) / m.ld, m.rr
    fade, over_j = rr / m.lm, 1.0 / drive.load.inertia
    coulomb, viscous = drive.load.coulomb + holds, drive.load.viscous
    quadratic, breakaway = drive.load.quadratic, drive.load.breakaway + holds
    sticks = max(coulomb, breakaway) > 0.0
    loss = inv.dead_voltage if active else 0.0
    ia, ib, fa, fb, w, th = x[I_ALPHA], x[I_BETA], x[PSI_ALPHA], x[PSI_BETA], x[OMEGA], x[THETA]
    steps = max(math.ceil(SUBSTEPS * span / drive.control.ts - 1e-9), math.ceil(min(8.0 * abs(p * w * span), 64.0)))
    h = span / steps
    decay, first, second = decay_weights(rate, h)
    knee = max(inv.knee, loss * first * over_l, 1e-9)
    over_knee, third, over_root = 1.0 / knee, loss / 3.0, loss / SQRT3
    shrink = math.exp(-fade * h)
    half, lift, pull = 0.5 * h, 0.5 * h * rr, 1.5 * p
    for _ in range(steps):
        w0 = w
        # both stages of Heun's rule written out: as a loop of two the compiler keeps its branches
        g_a = g_b = 0.0
        if active:
            u_a, u_b = _fed(va, vb, ia, ib, third, over_root, over_knee)
            g_a = (u_a + fade * fa + p * w * fb) * over_l
            g_b = (u_b + fade * fb - p * w * fa) * over_l
        torque = pull * (fa * ib - fb * ia)
        k_w0 = friction(torque - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
        turn = h * p * (w0 + half * k_w0)
        square = turn * turn
        sin_t = shrink * turn * (1.0 - square * (1.0 / 6.0) * (1.0 - square * (1.0 / 20.0)))
        cos_t = shrink * (1.0 - square * (0.5 - square * (1.0 / 24.0 - square * (1.0 / 720.0))))
        # the trapezoidal rule on what the current adds to the flux, carried along by decay and turn
        ka, kb = fa + lift * ia, fb + lift * ib
        base_a, base_b = ka * cos_t - kb * sin_t, ka * sin_t + kb * cos_t
        if active:
            ia, ib = decay * ia + first * g_a, decay * ib + first * g_b
        fa, fb = base_a + lift * ia, base_b + lift * ib
        w = w0 + h * k_w0
        if sticks and w0 * w < 0.0:
            w = 0.0
        torque = pull * (fa * ib - fb * ia)
        k_w = friction(torque - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
        if active:
            u_a, u_b = _fed(va, vb, ia, ib, third, over_root, over_knee)
            n_a = (u_a + fade * fa + p * w * fb) * over_l
            n_b = (u_b + fade * fb - p * w * fa) * over_l
            ia, ib = ia + second * (n_a - g_a), ib + second * (n_b - g_b)
        elif ia != 0.0 or ib != 0.0:  # diodes return the current to the supply until it is gone
            size = math.sqrt(ia * ia + ib * ib)
            left = max(size - h * (0.6 * x[V_BUS] + m.r * size) * over_l, 0.0)
            ia, ib = ia * left / size, ib * left / size
        fa, fb = base_a + lift * ia, base_b + lift * ib
        w = w0 + half * (k_w0 + k_w)
        if sticks and w0 * w < 0.0:
            w = 0.0
        th += half * (w0 + w)
    x[I_ALPHA], x[I_BETA], x[PSI_ALPHA], x[PSI_BETA], x[OMEGA], x[THETA] = ia, ib, fa, fb, w, th
    x[TORQUE] = 1.5 * p * (fa * ib - fb * ia)
    orient(x)


@inlined
def orient(x: FloatArray) -> None:
    """Put the currents into the frame of the true rotor flux."""
    size = math.sqrt(x[PSI_ALPHA] * x[PSI_ALPHA] + x[PSI_BETA] * x[PSI_BETA])
    c, s = (x[PSI_ALPHA] / size, x[PSI_BETA] / size) if size > 0.0 else (1.0, 0.0)
    x[ID], x[IQ] = x[I_ALPHA] * c + x[I_BETA] * s, x[I_BETA] * c - x[I_ALPHA] * s


@compiled
def _record_induction(x: FloatArray, row: FloatArray) -> None:
    """Write one row in the order of ``OUT``."""
    row[0], row[1], row[2], row[3] = x[TIME], x[REF], x[OMEGA], x[ID_REF]
    row[4], row[5], row[6], row[7], row[8] = x[ID], x[IQ_REF], x[IQ], x[VD], x[VQ]
    row[9], row[10] = x[I_ALPHA], -0.5 * x[I_ALPHA] + 0.5 * SQRT3 * x[I_BETA]
    row[11] = -row[9] - row[10]
    row[12], row[13], row[14] = x[V_BUS], x[TORQUE], x[THETA]
    row[15] = math.atan2(x[PSI_BETA], x[PSI_ALPHA])
    row[16], row[17], row[18], row[22] = x[SPEED_SEEN], x[ANGLE_SEEN], x[PHASE], x[AT]


@compiled
def run_induction(
    x: FloatArray,
    drive: Drive,
    inputs: FloatArray,
    edges: FloatArray,
    table_edges: FloatArray,
    steps: int,
    every: int,
    out: FloatArray,
) -> int:
    """Advance ``steps`` sampling periods; arguments and return as for the other machines' runs."""
    c = drive.control
    whole, early = delays(c)
    rows, divider = 0, int(c.speed_divider)
    observed = drive.sensing.angle_sensor == OBSERVER
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
        due = speed_phase == 0
        speed_phase = speed_phase + 1 if speed_phase + 1 < divider else 0
        if observed and mode in (OFF, SPEED, CURRENT):
            next_a, next_b = observed_firmware(x, drive, inputs, mode, due, whole, early)
        else:
            sense_angle(x, drive, edges, table_edges)
            if due:
                sense_speed(x, drive)
                if mode in (SPEED, MOVE):
                    ask_speed(x, drive, asked_speed(x, drive, inputs, mode))
            next_a, next_b = rotor_firmware(x, drive, inputs, mode)
        mode = guarded(x, drive, mode)
        if row_phase == 0 and rows < len(out) and not states:
            _record_induction(x, out[rows])
            rows += 1
        row_phase = row_phase + 1 if row_phase + 1 < every else 0
        queue(x, whole, next_a, next_b)
        drives, holds = loads(x, drive, inputs)
        for earlier in range(
            1 if early > 0.0 else 0, -1, -1
        ):  # the voltage before first, where it still stands for a while
            span = early if earlier == 1 else c.ts - early
            va, vb = float(x[V_ALPHA + whole + earlier]), float(x[V_BETA + whole + earlier])
            before = va * x[I_ALPHA] + vb * x[I_BETA]
            advance_induction(x, drive, va, vb, mode != OFF, drives, holds, span)
            if mode not in (OFF, MAINS):
                x[DRAWN] += 0.75 * (before + va * x[I_ALPHA] + vb * x[I_BETA]) * span / c.ts
        x[TIME] += c.ts
    return rows


#: Whole runs by the machine they run.
KERNELS = {Induction: run_induction}
