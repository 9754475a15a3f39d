"""Steps on a held armature behind a switch with its freewheeling diode: another circuit than the model's, soft brushes, much noise."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture.model import Capture
from crisp_compass.identify.inductance import fit_inductance


def switched(seed: int) -> tuple[Capture, float, float]:
    """One to four pulses; the current may reach V/R and comes to rest through a diode; noise of 0.3 to 2 % of full scale."""
    rng = np.random.default_rng(seed)
    r, tau = float(np.exp(rng.uniform(-1.5, 2.3))), float(np.exp(rng.uniform(-7.8, -4.9)))
    supply, drop, knee, diode = rng.uniform(5, 14), rng.uniform(0.15, 0.8), rng.uniform(0.02, 0.1), rng.uniform(0.45, 0.9)
    pulses, on, off, lead = int(rng.integers(1, 5)), rng.uniform(1.3, 5) * tau, rng.uniform(3, 7) * tau, rng.uniform(0.4, 2) * tau
    count = int(rng.integers(450, 1100))
    span = lead + pulses * (on + off)
    dt, fine, top = span / count, 12, supply / r
    v, i, now = np.empty(count), np.empty(count), 0.0
    late = rng.uniform(0, dt)
    for m in range(count):
        for k in range(fine):
            t = m * dt + k * dt / fine + late - lead
            drives = 0 <= t < pulses * (on + off) and t % (on + off) < on
            volts = supply - 0.06 * r * now if drives else -diode * (1 - math.exp(-now / (0.02 * top))) if now > 0 else 0.0
            now += dt / fine * (volts - r * now - drop * math.tanh(now / (knee * top))) / (r * tau)
            if not drives and now < 0:
                now = 0.0
        v[m], i[m] = volts, now
    scale_v, scale_i, noise, bits = 1.5 * supply, 1.7 * top, rng.uniform(0.003, 0.02), int(rng.choice([8, 10, 12]))
    read = []
    for x, scale, share in ((v, scale_v, 0.5 * noise), (i + 0.01 * scale_i * rng.uniform(-1, 1), scale_i, noise)):
        q = 2 * scale / 2**bits
        read.append(np.round((x + share * scale * rng.standard_normal(count)) / q) * q)
    return Capture("c", np.linspace(0, span, count, endpoint=False), {"v_m": read[0], "i_m": read[1]}, {"family": "brushed"}), r * tau, r


@pytest.mark.thorough
def test_no_sound_capture_is_refused_and_the_bars_hold() -> None:
    held = {"inductance": 0, "resistance": 0}
    for seed in range(14):
        capture, inductance, r = switched(seed)
        found = fit_inductance(capture).estimates
        for name, truth in (("inductance", inductance), ("resistance", r)):
            e = found[name]
            held[name] += e.low <= truth <= e.high
            assert abs(e.value / truth - 1) < 0.08, (seed, name)
    assert min(held.values()) >= 12
