"""Block commutation on this bench: the back-EMF as captured, and what its loops rest on."""

from __future__ import annotations

import math

from crisp_compass.bench.models import Bench
from crisp_compass.course.known import best_value
from crisp_compass.errors import Refusal
from crisp_compass.loops.block import Waveform, block_torque, with_signs
from crisp_compass.motor import family_of, flat_top, pole_pairs_of
from crisp_compass.plant.parameters import Trapezoid
from crisp_compass.sensing import SENSORS

#: Back-EMF of a trapezoid flat over 120° (Fourier: sin(n·π/6)/n², over the fundamental's).
_FLAT = {
    5: math.sin(5 * math.pi / 6) / 25 / math.sin(math.pi / 6),
    7: math.sin(7 * math.pi / 6) / 49 / math.sin(math.pi / 6),
}


def in_blocks(bench: Bench) -> bool:
    """Tell whether the firmware commutates in six steps, which takes a sensor."""
    sensed = SENSORS[bench.settings.sensor.kind].tells_angle
    return sensed and family_of(bench).blocks and bench.settings.current_loop.commutation == "block"


def waveform(bench: Bench) -> tuple[Waveform, str]:
    """Return the back-EMF of the settled flux with its harmonics, and where those are from: the newest capture that tells them, else
    the plate's word. Raises Refusal where nothing tells the flux."""
    psi = best_value(bench, "flux_linkage")
    if psi is None:
        raise Refusal("the flux is missing", "measure it on the flux leg, or write the data sheet's Kv on the plate")
    for evidence in reversed(bench.evidence.get("flux", ())):
        found = evidence.estimates
        if "harmonic_5" in found and "harmonic_7" in found:
            crest = found["trapezoid_factor"].value if "trapezoid_factor" in found else 0.95
            return with_signs(psi, found["harmonic_5"].value, found["harmonic_7"].value, crest), "as captured"
    if flat_top(bench.settings.plate):
        return Waveform(psi, _FLAT[5], _FLAT[7]), "presumed: a trapezoid flat over 120°, none captured"
    return Waveform(psi), "presumed: a sine, none captured"


def block_constant(bench: Bench) -> float:
    """Return the torque per ampere through two phases, N·m/A; raises Refusal where nothing tells the flux."""
    wave, _ = waveform(bench)
    return block_torque(wave, pole_pairs_of(bench.settings.plate)).mean


def block_machine(bench: Bench, r: float, inductance: float) -> Trapezoid:
    """Return the plant's machine phase by phase; raises Refusal as above."""
    wave, _ = waveform(bench)
    p = float(pole_pairs_of(bench.settings.plate))
    return Trapezoid(r, inductance, inductance, wave.psi, pole_pairs=p, h5=wave.h5, h7=wave.h7)
