"""What the firmware takes of a processor: instructions a period, code and memory by kind, and whether a clock suffices.

Counted on an emulated Cortex-M4F, GCC 12 with -O2 (tests/firmware/test_emulated.py counts again); the largest of 400 periods of a turning motor.
"""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass.firmware.plan import Kind, Plan
from crisp_compass.quantities import grouped


@dataclass(frozen=True)
class Cost:
    """Instructions of ``cc_step``, bytes of code without the mathematical library, bytes of state."""

    instructions: int
    code: int
    memory: int


COSTS: dict[Kind, Cost] = {
    "magnet": Cost(720, 3600, 120),
    "sensorless": Cost(1920, 8400, 320),
    "block": Cost(400, 3100, 130),
    "rotor": Cost(1120, 4300, 160),
    "hertz": Cost(680, 2450, 110),
    "armature": Cost(200, 2200, 90),
    "stepping": Cost(560, 2000, 100),
}
#: What field weakening adds.
WEAKENING = Cost(160, 950, 20)
#: What a position loop adds to a speed step, without the entries of its profile's mean: not counted, but taken from the operations.
POSITION = Cost(220, 900, 60)
#: What an induction motor without a sensor adds: not counted, taken from the parts that the estimator of magnets shares with it.
OBSERVER = Cost(700, 2400, 80)
#: Clocks an instruction takes on average: divisions, roots and branches take more than one, and flash its own.
CLOCKS_PER_INSTRUCTION = 1.5
#: Instructions of the whole-number parts: current controller on a Cortex-M0, estimators on a Cortex-M4.
FIXED = {
    "current controller, Cortex-M0": 1000,
    "whole drive by an encoder, Cortex-M0": 2000,
    "estimator and period, Cortex-M4": 3000,
    "estimator by back-EMF, Cortex-M4": 2100,
    "estimator by flux, Cortex-M4": 2700,
}


@dataclass(frozen=True)
class Budget:
    """What a period needs and has, in clocks of the processor, and the loop rate [Hz] up to which it fits."""

    needed: float
    available: float
    highest_hz: float

    @property
    def fits(self) -> bool:
        """Whether half of the period is left for everything else."""
        return self.needed <= 0.5 * self.available


def _position(plan: Plan) -> Cost:
    return Cost(POSITION.instructions, POSITION.code, POSITION.memory + 4 * round(plan.drive.control.move_steps))


def cost_of(plan: Plan) -> Cost:
    """Return what the firmware of a plan takes a period."""
    parts = [COSTS[plan.kind], *((WEAKENING,) if plan.context["weakens"] else ()), *((OBSERVER,) if plan.context["observed"] else ()), *((_position(plan),) if plan.context["moves"] else ())]
    return Cost(sum(p.instructions for p in parts), sum(p.code for p in parts), sum(p.memory for p in parts))


def budget(plan: Plan, clock_hz: float) -> Budget:
    """Return what the firmware of a plan needs of a processor with a floating-point unit at ``clock_hz`` [Hz]."""
    needed = CLOCKS_PER_INSTRUCTION * cost_of(plan).instructions
    return Budget(needed, clock_hz * plan.drive.control.ts, 0.5 * clock_hz / needed)


def verdict(plan: Plan) -> str:
    """Return in a sentence whether the processor's clock suffices, by how much not, and which loop rate would fit."""
    pwm = plan.bench.settings.pwm
    clock_hz = pwm.processor_hz or pwm.timer_hz
    found = budget(plan, clock_hz)
    share = f"{100 * found.needed / found.available:.0f} % of the {grouped(found.available)} clocks of a period"
    at = f"at {clock_hz / 1e6:.4g} MHz{'' if pwm.processor_hz else ', the timer’s clock,'} with a floating-point unit"
    if found.fits:
        return f"cc_step takes about {share} {at}."
    return f"cc_step takes about {share} {at}, more than half: a loop of up to {found.highest_hz / 1e3:.3g} kHz would leave room for the rest."
