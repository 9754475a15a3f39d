"""What pages show of gains that were tried, whichever loop they are of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.loops.sampled import Margins
from crisp_compass.loops.step_fit import StepFigures


@dataclass(frozen=True)
class TrialRow:
    """One trial: where it is from (``kind``), size of its step ``at`` (None: not told), gains, frequency [Hz] that stands for them, margins, figures, curve ``time`` (n,) s and ``response`` (n,) of the step."""

    kind: str
    at: float | None
    kp: float
    ki: float
    bandwidth_hz: float
    margins: Margins
    figures: StepFigures
    time: FloatArray
    response: FloatArray


@dataclass(frozen=True)
class Trials:
    """Trials of one loop: the bench's list they stand in, units of Kp, Ki and the step, what they are shown as, what is advised, and how one is added (bench, time, automatic)."""

    kept_in: str
    units: tuple[str, str, str]
    rows: Callable[[Bench], list[TrialRow]]
    advise: Callable[[Bench, list[TrialRow]], tuple[str, list[Finding]]]
    add: Callable[[Bench, str, bool], Bench]
