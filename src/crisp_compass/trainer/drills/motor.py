"""A motor that cannot be drawn twice the same, and what drills do with it first."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from crisp_compass.estimates import FloatArray
from crisp_compass.trainer.drill import Figures, Measure, Told

#: Tolerances of a series of motors, standard: resistance, inductance, flux (common practice: ±10 % on a sheet).
R_TOL, L_TOL, PSI_TOL = 0.04, 0.06, 0.03


def rounded(value: float, digits: int = 3) -> float:
    """Return a value as a sheet prints it."""
    return float(f"{value:.{digits}g}")


def magnet_motor(rng: np.random.Generator) -> dict[str, float]:
    """Draw a magnet motor: phase R [Ω], L [H], ψ [Wb], pole pairs, bus [V], rated current [A peak], inertia [kg·m²]."""
    bus = float(rng.choice([24.0, 36.0, 48.0]))
    pairs = float(rng.choice([2, 4, 5, 7, 11]))
    top = float(rng.uniform(150.0, 500.0))
    psi = bus / math.sqrt(3) / (pairs * top) * 0.85
    rated = float(rng.uniform(2.0, 15.0))
    r = float(rng.uniform(0.03, 0.12)) * bus / rated
    inductance = r * float(rng.uniform(0.6e-3, 4e-3))
    kt = 1.5 * pairs * psi
    return {"r": rounded(r), "l": rounded(inductance), "psi": rounded(psi), "p": pairs, "v": bus, "rated": rounded(rated, 2), "j": rounded(kt * rated / float(rng.uniform(500, 4000))), "top": rounded(top)}


def series(rng: np.random.Generator, figures: Figures, count: int) -> Figures:
    """Return what one motor of the series really has beside what is printed: ``true_r``, ``true_l``, ``true_psi``, and the winding's temperature ``temp`` [°C]."""

    def near(ratio: float) -> FloatArray:
        return np.asarray(1 + ratio * rng.standard_normal(count))

    return {
        "true_r": figures["r"] * near(R_TOL), "true_l": figures["l"] * near(L_TOL), "true_psi": figures["psi"] * near(PSI_TOL),
        "temp": 21.0 + 1.5 * rng.standard_normal(count), "probe": 0.02 + 0.01 * rng.uniform(size=count), "gap": 1 + 0.003 * rng.standard_normal(count),
    }  # fmt: skip


def copper(temp: FloatArray) -> FloatArray:
    """Return resistance over that at 20 °C (IEC 60034-1: 235 K)."""
    return np.asarray((235.0 + temp) / 255.0)


def sheet(known: Mapping[str, float]) -> str:
    """Return the usual lines of a plate."""
    return f"{known['v']:.0f} V, {known['p']:.0f} pole pairs, rated {known['rated']:g} A peak, top speed {known['top'] * 30 / math.pi:.0f} rpm, phase {1e3 * known['r']:.4g} mΩ, {1e3 * known['l']:.4g} mH."


def _done(figures: Figures) -> Told:
    return np.full(len(next(iter(figures.values()))), "done")


#: What comes before power.
CLEAR = Measure("clear", "Clamp the motor, clear the shaft, set the supply's limit", "hand", _done, minutes=2.0, sees="Nothing can fly, and a fault draws little.")
LEADS = Measure("insulation", "Leads to the frame, with a meter", "meter", lambda f: np.full(len(f["r"]), "open"), minutes=1.0, sees="No lead touches the frame.")
