"""Makers of simulated captures, written apart from the program's own plant so that both can be wrong only alone."""

from __future__ import annotations

import math

import numpy as np
from scipy.integrate import solve_ivp

from crisp_compass.capture import Capture
from crisp_compass.estimates import FloatArray
from crisp_compass.thermal.model import Bodies


def digitise(values: np.ndarray, full_scale: float, bits: int, noise: float, rng: np.random.Generator) -> np.ndarray:
    """Add noise (part of full scale) and quantise."""
    step = 2 * full_scale / 2**bits
    return np.round((values + noise * full_scale * rng.standard_normal(len(values))) / step) * step


def staircase(
    r: float, levels: list[float], *, seed: int = 0, bits: int = 12, noise: float = 1e-3, tau: float = 5e-3, rate: float = 2e3,
    hold: float = 0.2, bridge: tuple[float, float] | None = None, offset_v: float = 0.01, offset_i: float = 0.02,
) -> Capture:  # fmt: skip
    """DC levels with first-order settling; ``bridge`` = (voltage loss, knee current) makes it v_cmd."""
    rng = np.random.default_rng(seed)
    count = int(hold * rate)
    target = np.repeat(levels, count)
    decay, i, current = math.exp(-1 / rate / tau), np.empty(len(target)), 0.0
    for k, goal in enumerate(target):
        current = goal + (current - goal) * decay
        i[k] = current
    reach = 1.3 * max(abs(x) for x in levels)
    measured = digitise(i + offset_i, reach, bits, noise, rng)
    time = np.arange(len(target)) / rate
    if bridge is not None:
        loss, knee = bridge
        v = r * target + loss * np.tanh(target / knee)
        return Capture("made.csv", time, {"v_cmd": v, "i_a": measured})
    v = digitise(2 * r * target + offset_v, 2 * r * reach, bits, noise, rng)
    return Capture("made.csv", time, {"v_ab": v, "i_a": measured})


def steps(
    r: float,
    inductance: float,
    *,
    seed: int = 0,
    bits: int = 12,
    noise: float = 1e-3,
    per_tau: float = 20,
    pulses: int = 2,
    sag: float = 0.0,
) -> Capture:
    """Voltage pulses between two terminals, exact R–L response, trigger between samples."""
    rng = np.random.default_rng(seed)
    tau, sub = inductance / r, 25
    h = tau / per_tau / sub
    n = int(pulses * 2 * 3.5 * per_tau)
    t = np.arange(n * sub) * h
    source = np.where(((t / tau + 1.3) / 3.5).astype(int) % 2 == 1, 10.0 * r, 0.0)
    total = 2 * r + sag * r
    decay = math.exp(-total / (2 * inductance) * h)
    i, x = np.empty(len(t)), 0.0
    for k in range(len(t)):
        i[k] = x
        x = x * decay + source[k] * (1 - decay) / total
    v = source - sag * r * i
    time, v, i = t[::sub], v[::sub], i[::sub]
    return Capture(
        "made.csv", time,  # type: ignore[arg-type]
        {"v_ab": digitise(v + 0.02 * r, 14 * r, bits, noise, rng), "i_a": digitise(i + 0.01, 7.0, bits, noise, rng)},
    )  # fmt: skip


def turning(
    psi: float, theta: np.ndarray, omega: np.ndarray, time: np.ndarray, *, channels: tuple[str, ...] = ("v_ab", "v_bc"), seed: int = 0,
    bits: int = 12, noise: float = 2e-3, fifth: float = 0.0, seventh: float = 0.0, third: float = 0.0, offset: float = 0.01,
) -> dict[str, np.ndarray]:  # fmt: skip
    """Open-circuit voltages by the sign convention e_a = −ω·ψ·sin θe; θ, ω electrical."""
    rng = np.random.default_rng(seed)

    def phase(shift: float) -> np.ndarray:
        x = theta - shift
        return -omega * psi * (np.sin(x) + third * np.sin(3 * x) + fifth * np.sin(5 * x) + seventh * np.sin(7 * x))

    a, b, c = phase(0), phase(2 * math.pi / 3), phase(4 * math.pi / 3)
    every = {"v_ab": a - b, "v_bc": b - c, "v_ca": c - a, "v_a": a, "v_b": b, "v_c": c}
    reach = 1.3 * max(float(np.max(np.abs(every[n]))) for n in channels)
    return {n: digitise(every[n] + offset * reach * rng.standard_normal(), reach, bits, noise, rng) for n in channels}


def coast(
    f0: float, seconds: float, rate: float, fall: float = 0.6, sign: int = 1
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Electrical angle and speed of a coast that loses ``fall`` of its speed: t, θ, ω."""
    t = np.arange(int(seconds * rate)) / rate
    tau = seconds / 1.2
    scale = fall / (1 - math.exp(-seconds / tau))
    omega = 2 * math.pi * f0 * (1 - scale * (1 - np.exp(-t / tau)))
    theta = 2 * math.pi * f0 * ((1 - scale) * t + scale * tau * (1 - np.exp(-t / tau)))
    return t, sign * theta + 0.9, sign * omega


def hall_turn(
    order: tuple[int, ...], inverted: int, spacing: int, sign: int, *, seed: int = 0, rate: float = 3e3
) -> tuple[Capture, list[tuple[float, float]]]:
    """A hand turn of halls mounted a few degrees off, in any order and polarity, with the arcs each reads 1 on."""
    rng = np.random.default_rng(seed)
    t = np.arange(int(0.8 * rate)) / rate
    omega = sign * 2 * math.pi * (5 + 2 * np.sin(2 * math.pi * 0.9 * t + seed))
    theta = rng.uniform(0, 6) + np.cumsum(omega) / rate
    base = (0, 120, 240) if spacing == 120 else (0, 60, 120)
    start, errors = rng.uniform(0, 360), 2.5 * rng.standard_normal(6)
    arcs = [
        ((start + b + errors[2 * k]) % 360, (start + b + 180 + errors[2 * k + 1]) % 360) for k, b in enumerate(base)
    ]
    arcs = [arcs[k] for k in order]
    arcs = [(b, a) if inverted >> k & 1 else (a, b) for k, (a, b) in enumerate(arcs)]
    x = np.degrees(theta) % 360
    columns = turning(0.01, theta, omega, t, seed=seed, noise=1e-3, fifth=0.03)
    for k, (a, b) in enumerate(arcs, 1):
        columns[f"hall_{k}"] = ((x - a) % 360 < (b - a) % 360).astype(float)
    return Capture("h.csv", t, columns), arcs


def encoder_turn(
    lines: int, *, turns: float, p: int = 4, sign: int = 1, encoder_sign: int = 1, zero: float = 0.7, index_at: float = 1.0, seed: int = 0,
    phase: float = 90.0, channels: tuple[str, ...] = ("v_ab", "v_bc"), index: bool = True, per_count: float = 8.0, wobble: float = 0.3,
    back: bool = False,
) -> Capture:  # fmt: skip
    """A hand turn: uneven speed, perhaps turning back; the encoder's own angle has its own zero and sense."""
    rng = np.random.default_rng(seed)
    seconds = 2.0
    rate = max(4 * lines * turns * per_count / seconds * (1 + wobble), 2000.0)
    t = np.arange(int(seconds * rate)) / rate
    shape = 1 + wobble * np.sin(2 * math.pi * 0.9 * t + seed) + 0.1 * np.sin(2 * math.pi * 3.1 * t)
    if back:
        shape = np.where(t > 1.6, -0.5, 1.0) * shape
    speed = shape / (np.sum(shape) / rate) * turns * 2 * math.pi
    mechanical = sign * np.concatenate([[0.0], np.cumsum((speed[1:] + speed[:-1]) / 2) / rate]) + rng.uniform(0, 6)
    theta = p * mechanical + zero
    columns = {
        n: v
        for n, v in turning(
            0.02, theta, p * sign * speed, t, channels=channels or ("v_ab",), seed=seed, noise=1e-3
        ).items()
        if channels
    }
    x = encoder_sign * mechanical * lines / (2 * math.pi)
    columns["enc_a"] = ((x % 1.0) < 0.5).astype(float)
    columns["enc_b"] = (((x - phase / 360) % 1.0) < 0.5).astype(float)
    if index:
        place = (mechanical - index_at + math.pi) % (2 * math.pi) - math.pi
        columns["enc_z"] = (np.abs(place) < math.pi / lines).astype(float)
    return Capture("e.csv", t, columns)


def table(**columns: np.ndarray) -> Capture:
    """A table without time."""
    return Capture("table.csv", np.empty(0), columns)


def rests(
    p: int, sense: int, zero: float, lag: float, *, cogging: float = 0.0, noise: float = 0.0, seed: int = 0, places: int = 17
) -> Capture:  # fmt: skip
    """α = σ·p·m + zero + s·h + cogging: where a rotor with friction stops short of the field."""
    rng = np.random.default_rng(seed)
    up = 2 * math.pi * p * np.arange(places) / places
    field = np.concatenate([up, up[-2::-1]])
    side = np.concatenate([[1.0], np.sign(np.diff(field))])
    theta = field - lag * side - cogging * np.sin(12 * field / p + 1.0) + noise * rng.standard_normal(len(field))
    return table(field_angle=field, angle=sense * (theta - zero) / p)


def pulses(
    theta: float, *, saliency: float, pole: float, noise: float, seed: int = 0, count: int = 72, offset: tuple[float, float] = (0.0, 0.0),
    rested: bool = False,
) -> Capture:  # fmt: skip
    """Two-axis theory in closed form: i = cos²/Ld + sin²/Lq along the pulse, with more towards the pole."""
    rng = np.random.default_rng(seed)
    alpha = np.arange(count) * 2 * math.pi / count
    along = np.cos(alpha - theta)
    ld, lq = 1 - saliency / 2, 1 + saliency / 2
    current = along**2 / ld * (1 + pole / 2 * along) + (1 - along**2) / lq
    current += offset[0] * np.cos(alpha) + offset[1] * np.sin(alpha) + noise * rng.standard_normal(count)
    if not rested:
        return table(field_angle=alpha, i_peak=4.0 * current)
    rest = offset[0] * np.cos(alpha) + offset[1] * np.sin(alpha) + 0.3 * noise * rng.standard_normal(count)
    return table(field_angle=alpha, i_peak=4.0 * current, i_rest=4.0 * rest)


def save(capture: Capture, path: object) -> None:
    """Write a made capture the plainest way."""
    from pathlib import Path

    units = {"v": "V", "i": "A"}
    names = list(capture.columns)
    header = ",".join(["t [s]", *(f"{n} [{units[n[0]]}]" if n[0] in units else n for n in names)])
    rows = np.column_stack([capture.time, *(capture[n] for n in names)])
    lines = [",".join(f"{x:.9g}" for x in row) for row in rows]
    Path(str(path)).write_text("\n".join([header, *lines]) + "\n", encoding="utf-8")


def warmed(seed: int) -> tuple[Capture, tuple[float, float, float, float]]:
    """A motor warmed by a current through two phases and left to cool with a tenth of it, its course by SciPy."""
    rng = np.random.default_rng(seed)
    rw, rh, tw, th = 10 ** rng.uniform(-0.7, 0.5), 10 ** rng.uniform(-0.3, 0.7), 10 ** rng.uniform(1.0, 1.8), 10 ** rng.uniform(2.5, 3.2)
    ambient, r = float(rng.uniform(12, 30)), float(10 ** rng.uniform(-1.3, 0.8))
    i = math.sqrt(70.0 / (rw + rh) / (2.4 * r))
    span = 3.0 * th
    t = np.linspace(0.0, span, 1500)
    through = np.where(t < 0.6 * span, i, 0.1 * i)
    b = Bodies(rw, rh, tw, th, 2.0, r, ambient)
    winding = solve_ivp(lambda s, x: ladder_slope(b, ambient, i if s < 0.6 * span else 0.1 * i, x), (0, span), [ambient, ambient], t_eval=t, rtol=1e-9, atol=1e-8, max_step=tw / 4).y[0]
    ohm = 2 * r * (235 + winding) / (235 + ambient)
    v = ohm * through + 4e-4 * 2 * r * i * rng.standard_normal(len(t))
    current = through + 2e-4 * i * rng.standard_normal(len(t))
    return Capture("warm.csv", t, {"v_ab": v, "i_a": current}, {"temperature_c": f"{ambient + 0.3 * rng.standard_normal():.2f}"}), (rw, rh, tw, th)


def ladder_slope(b: Bodies, ambient: float, current: float, x: FloatArray) -> list[float]:
    """Return how winding and housing [°C] of a motor change, K/s: the equations written out once more."""
    watt = b.factor * b.r * current**2 * (235 + x[0]) / (235 + b.reference)
    through = (x[0] - x[1]) / b.to_housing
    return [(watt - through) * b.to_housing / b.winding_time, (through - (x[1] - ambient) / b.to_air) * b.to_air / b.housing_time]
