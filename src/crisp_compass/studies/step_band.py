"""How sound is the current loop against reality? A thousand runs of the compiled plant over what is not known.

Drawn: R by its error bar and the winding's temperature (copper, IEC 60034-1: 235 °C rule), L by its error bar, iron that
may saturate, a bus that sags. Every run is the plant's own kernel, rotor held.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.conversions import resistance_at
from crisp_compass.course.bridge import usable_voltage
from crisp_compass.estimates import FloatArray
from crisp_compass.loops.current import CurrentDesign
from crisp_compass.loops.step_fit import measured_figures
from crisp_compass.motor import winding_of
from crisp_compass.studies.step_prediction import held_step, nice, tracking_of

RUNS = 1000


@dataclass(frozen=True)
class Spread:
    """What is drawn: temperatures [°C] the winding may have, share of L lost to saturation at most, share of the bus lost at most."""

    cold: float = 10.0
    hot: float = 110.0
    saturation: float = 0.0
    sag: float = 0.1


@dataclass(frozen=True)
class Band:
    """Responses over all runs: ``time`` (n,) s; ``low``, ``middle``, ``high`` (n,) A hold 95 % and the half; ``worst`` (n,) A.

    ``overshoot`` and ``rise`` (95 % of runs below) in % and s; ``worst_text`` what the worst run was made of.
    """

    time: FloatArray
    low: FloatArray
    middle: FloatArray
    high: FloatArray
    worst: FloatArray
    overshoot: float
    worst_overshoot: float
    rise: float
    worst_text: str
    runs: int


def current_band(bench: Bench, design: CurrentDesign, *, runs: int = RUNS, spread: Spread | None = None) -> Band:
    """Run the q current step of the page over the spread; raises Refusal where something is not settled."""
    settings = bench.settings.current_loop
    spread = spread or Spread(saturation=settings.saturation, sag=settings.sag, cold=settings.cold, hot=settings.hot)
    step, loop_hz = settings.step, need(bench, "pwm.loop_hz")
    of = winding_of(bench)
    rng = np.random.default_rng(4)
    # files of older versions settled R without its temperature: there the field's reference stands in
    taken = settled_value(bench, "resistance.temperature")
    at = taken.value if taken is not None else bench.settings.resistance.reference
    cold, hot = (resistance_at(of.r, at, t) / of.r for t in (spread.cold, spread.hot))
    rs = of.r * rng.uniform(cold, hot, runs) * (1 + of.r_u / of.r * rng.standard_normal(runs))
    ls = of.lq * (1 + of.l_u / of.lq * rng.standard_normal(runs))
    kept = 1 - spread.saturation * rng.uniform(0, 1, runs)
    limits = usable_voltage(bench).command * (1 - spread.sag * rng.uniform(0, 1, runs))
    crossover = design.q.margins.crossover_hz
    seconds = nice(1.6 / crossover) if math.isfinite(crossover) else 100 / loop_hz
    length = int(min(max(seconds * loop_hz, 40), 400))
    tracks = tracking_of(design, of.r, of.ld, of.lq, loop_hz=loop_hz)
    out = np.empty((runs, length))
    for k in range(runs):
        out[k] = held_step(
            design,
            tracks,
            settings.delay_samples,
            float(rs[k]),
            lq=float(ls[k] * kept[k]),
            ld=of.ld,
            step=step,
            loop_hz=loop_hz,
            v_limit=float(limits[k]),
            length=length,
        )
    time = np.arange(length) / loop_hz
    low, middle, high = np.percentile(out, (2.5, 50, 97.5), axis=0)
    tops = 100 * np.maximum(out.max(axis=1) / step - 1, 0)
    rises = np.array([measured_figures(time, y, step).rise for y in out[:: max(runs // 200, 1)]])
    worst = int(np.argmax(np.max(np.abs(out - step) * (out > step), axis=1)))
    share = (
        rs[worst] / of.r - 1,
        ls[worst] * kept[worst] / of.lq - 1,
        limits[worst] / usable_voltage(bench).command - 1,
    )
    text = f"R {_signed(share[0])}, L {_signed(share[1])}, bus {_signed(share[2])}"
    return Band(
        time, low, middle, high, worst=out[worst], overshoot=float(np.percentile(tops, 95)), worst_overshoot=float(tops[worst]), rise=float(np.percentile(rises[np.isfinite(rises)], 95)) if np.isfinite(rises).any() else math.nan, worst_text=text, runs=runs
    )  # fmt: skip


def _signed(share: float) -> str:
    return f"{100 * share:+.0f} %".replace("-", "−")
