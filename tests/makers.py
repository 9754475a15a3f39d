"""Makers of simulated captures, written apart from the program's own plant so that both can be wrong only alone."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.capture import Capture


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
        "made.csv", time,
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


def save(capture: Capture, path: object) -> None:
    """Write a made capture the plainest way."""
    from pathlib import Path

    units = {"v": "V", "i": "A"}
    names = list(capture.columns)
    header = ",".join(["t [s]", *(f"{n} [{units[n[0]]}]" if n[0] in units else n for n in names)])
    rows = np.column_stack([capture.time, *(capture[n] for n in names)])
    lines = [",".join(f"{x:.9g}" for x in row) for row in rows]
    Path(str(path)).write_text("\n".join([header, *lines]) + "\n", encoding="utf-8")
