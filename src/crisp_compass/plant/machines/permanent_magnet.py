"""Permanent-magnet machine with saturating iron, three phases or two (steppers); compiled. Model and sources: docs/theory.md, “Plant”.

The currents are integrated in the rotor frame by an exponential rule of second order (S. M. Cox, P. C. Matthews, J. Comput.
Phys. 176, 2002: ETD2RK): the winding's own decay is exact, however short L/R is against the period; speed and angle by Heun's
rule. At least 4 sub-steps a period, more where the rotor turns far within one. In a whole run the stationary voltage vector is constant
(averaged inverter) but for the moment within a period at which a fractional delay lets the next one in.
"""

from __future__ import annotations

import math

from crisp_compass.compiled import compiled, inlined
from crisp_compass.estimates import FloatArray
from crisp_compass.plant.control.field_oriented import firmware, speed_loop
from crisp_compass.plant.control.position import asked_speed
from crisp_compass.plant.control.sensorless import sensorless
from crisp_compass.plant.control.stepping import step_firmware
from crisp_compass.plant.mechanics import drag, friction
from crisp_compass.plant.parameters import ALIGN, MOVE, OFF, PULSE, SPEED, STEP, Drive, Machine
from crisp_compass.plant.period import asked_mode, delays, guarded, holds_on, keep, load_bus, loads, queue
from crisp_compass.plant.protection import shorted
from crisp_compass.plant.sensors import sense_angle, sense_speed
from crisp_compass.plant.state import (
    ANGLE_SEEN,
    AT,
    COS,
    COUNT,
    DRAWN,
    ID,
    ID_REF,
    IN_MODE,
    IQ,
    IQ_REF,
    OBSERVER_STATE,
    OMEGA,
    PHASE,
    REF,
    RESTING,
    SIN,
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
from crisp_compass.sensing.sensor import ARMATURE, OBSERVER
from crisp_compass.sensorless.estimator import EMF, OUT_ANGLE, VALID


@inlined
def _iron(i: float, inductance: float, rest: float, knee: float) -> tuple[float, float]:
    """Return flux and incremental inductance of one axis whose iron saturates (identify.saturation's curve)."""
    x = i / knee
    flux = inductance * (rest * i + (1.0 - rest) * knee * math.atan(x))
    return flux, inductance * (rest + (1.0 - rest) / (1.0 + x * x))


@compiled
def _biased(m: Machine, i_d: float) -> tuple[float, float]:
    """Return flux and incremental inductance of the d axis: its iron, and what the magnet's bias takes off along the pole."""
    flux, slope = _iron(i_d, m.ld, m.saturated, m.i_sat)
    if m.bend != 0.0:
        most = 0.8 * m.saturated / abs(m.bend)  # beyond, the slope stays
        u = min(most, max(-most, i_d))
        flux -= m.ld * m.bend * (0.5 * u * u + u * (i_d - u))
        slope -= m.ld * m.bend * u
    return flux, slope


@compiled
def decay_weights(rate: float, h: float) -> tuple[float, float, float]:
    """Return e^(−z), (1 − e^(−z))/rate and (e^(−z) − 1 + z)/(rate·z) with z = rate·h: the weights of the exponential rule."""
    z = rate * h
    if z < 0.1:  # to 1e-11 by its series, and without what a small z would lose
        first = h * (1.0 - z * (1 / 2 - z * (1 / 6 - z * (1 / 24 - z * (1 / 120 - z * (1 / 720 - z * (1 / 5040)))))))
        second = h * (1 / 2 - z * (1 / 6 - z * (1 / 24 - z * (1 / 120 - z * (1 / 720 - z * (1 / 5040))))))
        return 1.0 - rate * first, first, second
    e = math.exp(-z)
    return e, (1.0 - e) / rate, (e - 1.0 + z) / (rate * z)


#: Sub-steps for each usual one while diodes conduct: a leg counts as open below a current that half the bus changes within one.
_FINER = 12


@inlined
def rectifies(x: FloatArray, drive: Drive) -> bool:
    """Tell whether a star whose switches are off feeds the bus through their diodes: its back-EMF between two lines is above it."""
    m = drive.machine
    return bool(m.torque_factor == 1.5 and SQRT3 * m.pole_pairs * abs(x[OMEGA]) * m.psi > x[V_BUS] > 0.0)


@inlined
def _fed_back(x: FloatArray, alpha: float, beta: float) -> float:
    """Return the power [W] that the diodes feed to the bus: half of it times what flows through all legs."""
    half = 0.5 * SQRT3 * beta
    return 0.5 * float(x[V_BUS]) * (abs(alpha) + abs(half - 0.5 * alpha) + abs(half + 0.5 * alpha))


@inlined
def advance(
    x: FloatArray,
    drive: Drive,
    va: float,
    vb: float,
    active: bool,
    load: float,
    holds: float,
    span: float,
    usual: tuple[float, float, float, float, float, float, float],
) -> None:
    """Advance the machine by ``span`` seconds under one stationary voltage; ``load`` drives, ``holds`` only brakes [N·m].

    ``usual`` holds the weights of the usual sub-step and its length. The rotor's sine and cosine are turned on by each sub-step's angle instead of being computed anew; they start each
    period exact.
    """
    m, inv = drive.machine, drive.inverter
    p, r, ld, lq, psi = m.pole_pairs, m.r, m.ld, m.lq, m.psi
    slope_d, slope_q, over_j = ld, lq, 1.0 / drive.load.inertia
    over_ld, over_lq = 1.0 / ld, 1.0 / lq
    loss = inv.dead_voltage if active else 0.0
    finer = 1
    if not active and rectifies(x, drive):  # the diodes hold each leg at the rail that its current flows to
        active, va, vb, loss, finer = True, 0.0, 0.0, 0.5 * x[V_BUS], _FINER
    coulomb, viscous = drive.load.coulomb + holds, drive.load.viscous
    quadratic, breakaway = drive.load.quadratic, drive.load.breakaway + holds
    sticks = max(coulomb, breakaway) > 0.0
    factor, detent, two_phase = m.torque_factor, m.detent, m.torque_factor == 1.0
    i_d, i_q, w, th = x[ID], x[IQ], x[OMEGA], x[THETA]
    # sub-steps of a quarter period, and of no more than an eighth of a radian
    steps = max(math.ceil(SUBSTEPS * span / drive.control.ts - 1e-9), math.ceil(min(8.0 * abs(p * w * span), 64.0)))
    steps *= finer
    h = span / steps
    rate_d, rate_q = r / ld, r / lq
    if h == usual[0]:
        e_d, first_d, second_d, e_q, first_q, second_q = usual[1], usual[2], usual[3], usual[4], usual[5], usual[6]
    else:
        e_d, first_d, second_d = decay_weights(rate_d, h)
        e_q, first_q, second_q = decay_weights(rate_q, h)
    # never a steeper knee than the sub-step resolves; the current's ripple, which makes the knee, is always wider
    knee = max(inv.knee if finer == 1 else 0.0, loss * max(first_d / ld, first_q / lq), 1e-9)
    over_knee = 1.0 / knee
    c, s = x[COS], x[SIN]
    saturates = m.saturated < 1.0 or m.bend != 0.0
    for _ in range(steps):
        d0, q0, w0 = i_d, i_q, w
        # the turn at the speed so far, at most an eighth of a radian: known before the torque is, which saves waiting
        turn = h * p * w0
        square = turn * turn
        sin_t = turn * (1.0 - square * (1.0 / 6.0) * (1.0 - square * (1.0 / 20.0)))
        cos_t = 1.0 - square * (0.5 - square * (1.0 / 24.0 - square * (1.0 / 720.0)))
        n_d = n_q = k_w0 = k_w = 0.0
        flux_d, flux_q = ld * i_d, lq * i_q
        if saturates:
            flux_d, slope_d = _biased(m, i_d)
            flux_q, slope_q = _iron(i_q, lq, m.saturated, m.i_sat)
            rate_d, rate_q = r / slope_d, r / slope_q
            e_d, first_d, second_d = decay_weights(rate_d, h)
            e_q, first_q, second_q = decay_weights(rate_q, h)
        for stage in range(2):
            we = p * w
            f_d = f_q = 0.0
            if active:
                ua, ub = va, vb
                if loss > 0:
                    alpha, beta = i_d * c - i_q * s, i_d * s + i_q * c
                    if two_phase:  # the legs of one winding lose against its own current
                        ua -= loss * min(1.0, max(-1.0, alpha * over_knee))
                        ub -= loss * min(1.0, max(-1.0, beta * over_knee))
                        alpha = beta = 0.0
                    half = 0.5 * SQRT3 * beta
                    ea = min(1.0, max(-1.0, alpha * over_knee))
                    eb = min(1.0, max(-1.0, (half - 0.5 * alpha) * over_knee))
                    ec = min(1.0, max(-1.0, (-half - 0.5 * alpha) * over_knee))
                    ua -= loss * (2.0 * ea - eb - ec) / 3.0
                    ub -= loss * (eb - ec) / SQRT3
                # what acts on each current beside its own decay at rate R/L
                if saturates:
                    f_d = (ua * c + ub * s - r * i_d + we * flux_q) / slope_d + rate_d * i_d
                    f_q = (ub * c - ua * s - r * i_q - we * (flux_d + psi)) / slope_q + rate_q * i_q
                else:
                    f_d = (ua * c + ub * s + we * flux_q) * over_ld
                    f_q = (ub * c - ua * s - we * (flux_d + psi)) * over_lq
            torque = factor * p * ((psi + flux_d) * i_q - flux_q * i_d)
            if detent != 0.0:
                torque -= detent * 4.0 * s * c * (c * c - s * s)  # sin 4θ
            k_w = friction(torque - drag(viscous, quadratic, w) - load, w, coulomb, breakaway) * over_j
            if stage == 0:
                n_d, n_q, k_w0 = f_d, f_q, k_w
                if active:
                    i_d, i_q = e_d * d0 + first_d * n_d, e_q * q0 + first_q * n_q
                    flux_d, flux_q = ld * i_d, lq * i_q
                    if saturates:
                        flux_d, slope_d = _biased(m, i_d)
                        flux_q, slope_q = _iron(i_q, lq, m.saturated, m.i_sat)
                w = w0 + h * k_w
                if sticks and w0 * w < 0:
                    w = 0.0
                # the turn with what the speed gained, which is little
                more = 0.5 * h * h * p * k_w
                less = 1.0 - 0.5 * more * more
                sin_m, cos_m = sin_t * less + cos_t * more, cos_t * less - sin_t * more
                c, s = c * cos_m - s * sin_m, s * cos_m + c * sin_m
            elif active:
                i_d, i_q = i_d + second_d * (f_d - n_d), i_q + second_q * (f_q - n_q)
        if not active and (i_d != 0 or i_q != 0):
            # switches off: diodes return the current to the supply until it is gone
            size = math.sqrt(i_d * i_d + i_q * i_q)
            left = max(size - h * (0.6 * x[V_BUS] + r * size) * 2.0 / (ld + lq), 0.0)
            i_d, i_q = i_d * left / size, i_q * left / size
        w = w0 + 0.5 * h * (k_w0 + k_w)
        if sticks and w0 * w < 0:  # friction stops the rotor before it can reverse it
            w = 0.0
        th += 0.5 * h * (w0 + w)
    flux_d, flux_q = ld * i_d, lq * i_q
    if saturates:
        flux_d, slope_d = _biased(m, i_d)
        flux_q, slope_q = _iron(i_q, lq, m.saturated, m.i_sat)
    x[TORQUE] = factor * p * ((psi + flux_d) * i_q - flux_q * i_d)
    if detent != 0.0:
        x[TORQUE] -= detent * 4.0 * s * c * (c * c - s * s)
    x[ID], x[IQ], x[OMEGA], x[THETA], x[COS], x[SIN] = i_d, i_q, w, th, c, s


@compiled
def record(x: FloatArray, row: FloatArray, theta_e: float, two_phase: bool) -> None:
    """Write one row in the order of ``OUT``; of two phases C is none."""
    ct, st = x[COS], x[SIN]
    alpha, beta = x[ID] * ct - x[IQ] * st, x[ID] * st + x[IQ] * ct
    row[0], row[1], row[2], row[3] = x[TIME], x[REF], x[OMEGA], x[ID_REF]
    row[4], row[5], row[6], row[7], row[8] = x[ID], x[IQ_REF], x[IQ], x[VD], x[VQ]
    row[9], row[10] = alpha, -0.5 * alpha + 0.5 * SQRT3 * beta
    row[11] = -row[9] - row[10]
    if two_phase:
        row[10], row[11] = beta, 0.0
    row[12], row[13], row[14], row[15] = x[V_BUS], x[TORQUE], x[THETA], theta_e
    row[16], row[17], row[22] = x[SPEED_SEEN], x[ANGLE_SEEN], x[AT]
    row[18], row[19], row[20], row[21] = (
        x[PHASE],
        x[OBSERVER_STATE + OUT_ANGLE],
        x[OBSERVER_STATE + EMF],
        x[OBSERVER_STATE + VALID],
    )


@compiled
def run(
    x: FloatArray,
    drive: Drive,
    inputs: FloatArray,
    edges: FloatArray,
    table_edges: FloatArray,
    steps: int,
    every: int,
    out: FloatArray,
) -> int:
    """Advance ``steps`` sampling periods; write every ``every``-th one into ``out`` (rows, 22), or where ``out`` has a column for each state (rows, STATES) the states before each period. Return rows written.

    ``x`` (STATES,) is changed in place. ``inputs`` (7,) holds mode, speed [rad/s], id, iq [A], load torque [N·m],
    supply [V] and whether the load drives. ``edges`` and ``table_edges`` (6,) are the hall edges as mounted and as the firmware believes them, rad.
    """
    c = drive.control
    whole, early = delays(c)
    p = drive.machine.pole_pairs
    h = (c.ts - early) / math.ceil(SUBSTEPS * (c.ts - early) / c.ts - 1e-9)
    e_d, first_d, second_d = decay_weights(drive.machine.r / drive.machine.ld, h)
    e_q, first_q, second_q = decay_weights(drive.machine.r / drive.machine.lq, h)
    usual = (h, e_d, first_d, second_d, e_q, first_q, second_q)
    rows = 0
    seen = x[OBSERVER_STATE:]
    without_sensor = drive.sensing.angle_sensor == OBSERVER and int(inputs[IN_MODE]) not in (STEP, PULSE, ALIGN)
    divider = int(c.speed_divider)
    speed_phase = int(x[COUNT]) % divider
    row_phase = int(x[COUNT]) % every
    x[COUNT] += float(steps)
    states = out.shape[1] == len(x)
    for _ in range(steps):
        if states and rows < len(out):
            keep(x, out[rows])
            rows += 1
        mode = asked_mode(x, inputs)
        if mode == OFF and int(inputs[IN_MODE]) in (STEP, PULSE) and holds_on(x, drive):
            mode = int(inputs[IN_MODE])
        load_bus(x, drive, inputs)
        x[DRAWN] = 0.0
        te = p * x[THETA]
        x[COS], x[SIN] = math.cos(te), math.sin(te)
        if without_sensor:
            next_a, next_b = sensorless(x, seen, drive, inputs, mode, speed_phase == 0, whole, early)
        else:
            if drive.sensing.angle_sensor != ARMATURE:  # a motor that is stepped may have nothing that tells where it is
                sense_angle(x, drive, edges, table_edges)
            if speed_phase == 0:
                if drive.sensing.angle_sensor != ARMATURE:
                    sense_speed(x, drive)
                if mode in (SPEED, MOVE):
                    speed_loop(x, drive, asked_speed(x, drive, inputs, mode))
            next_a, next_b = step_firmware(x, drive, inputs, mode, speed_phase == 0) if mode in (STEP, PULSE) else firmware(x, drive, inputs, mode)
        speed_phase = speed_phase + 1 if speed_phase + 1 < divider else 0
        mode = guarded(x, drive, mode)
        short = shorted(x, c)
        active = short or (mode != OFF and not (without_sensor and x[PHASE] == RESTING))
        if row_phase == 0 and rows < len(out) and not states:
            record(x, out[rows], te, drive.machine.torque_factor == 1.0)
            rows += 1
        row_phase = row_phase + 1 if row_phase + 1 < every else 0
        queue(x, whole, next_a, next_b)
        drives, holds = loads(x, drive, inputs)
        for earlier in range(
            1 if early > 0.0 else 0, -1, -1
        ):  # the voltage before first, where it still stands for a while
            span = early if earlier == 1 else c.ts - early
            va, vb = (0.0, 0.0) if short else (float(x[V_ALPHA + whole + earlier]), float(x[V_BETA + whole + earlier]))
            feeds = not active and rectifies(x, drive)
            if feeds:
                x[DRAWN] -= 0.5 * _fed_back(x, x[ID] * x[COS] - x[IQ] * x[SIN], x[ID] * x[SIN] + x[IQ] * x[COS]) * span / c.ts
            before = va * (x[ID] * x[COS] - x[IQ] * x[SIN]) + vb * (x[ID] * x[SIN] + x[IQ] * x[COS])
            advance(x, drive, va, vb, active, drives, holds, span, usual)
            if active:
                after = va * (x[ID] * x[COS] - x[IQ] * x[SIN]) + vb * (x[ID] * x[SIN] + x[IQ] * x[COS])
                x[DRAWN] += 0.5 * drive.machine.torque_factor * (before + after) * span / c.ts
            elif feeds:
                x[DRAWN] -= 0.5 * _fed_back(x, x[ID] * x[COS] - x[IQ] * x[SIN], x[ID] * x[SIN] + x[IQ] * x[COS]) * span / c.ts
        x[TIME] += c.ts
    return rows


#: Whole runs by the machine they run.
KERNELS = {Machine: run}
