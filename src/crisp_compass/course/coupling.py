"""The shaft between motor and load on this bench: rigid, or one that twists."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.errors import Refusal
from crisp_compass.loops.speed import Coupling
from crisp_compass.plant.parameters import Load


def coupling_of(bench: Bench) -> Coupling | None:
    """Return stiffness, damping and inertia behind the coupling, from the whole inertia as settled; None where the shaft is rigid.

    Two inertias on a spring swing at ω² = k·(1/J_M + 1/J_L), with the damping ratio ζ = d·(1/J_M + 1/J_L)/(2ω) (L. Meirovitch, Fundamentals of Vibrations, 2001, 5.1).
    """
    s = bench.settings.coupling
    if s.resonance_hz is None or s.load_share is None:
        return None
    whole, w = need(bench, "mechanics.inertia"), 2 * math.pi * s.resonance_hz
    load = s.load_share * whole
    both = load * (whole - load) / whole
    return Coupling(both * w * w, 2 * s.damping * w * both, load)


def on_the_shaft(bench: Bench, load: Load, ts: float) -> Load:
    """Return the load of a simulated drive that steps by ``ts`` [s], parted in two where the shaft twists; raises Refusal for a resonance too fast for its steps.

    The plant's rule swings at the ω for which sin(ωT/2) = ω₀·T/2, which is too fast: the stiffness is lowered so that it does not.
    """
    coupling, hz = coupling_of(bench), bench.settings.coupling.resonance_hz
    if coupling is None or hz is None:
        return load
    if hz > 0.25 / ts:
        raise Refusal(
            f"a resonance at {hz:g} Hz is too fast for a loop at {1 / ts:g} Hz", f"it must stay below {0.25 / ts:.4g} Hz; what is faster does not reach the loop: leave it out",
            field="coupling.resonance_hz",
        )  # fmt: skip
    half = math.pi * hz * ts
    return load._replace(
        inertia=load.inertia - coupling.load_inertia, second=coupling.load_inertia, stiffness=coupling.stiffness * (math.sin(half) / half) ** 2,
        damping=coupling.damping, backlash=bench.settings.coupling.backlash,
    )  # fmt: skip
