"""The circuit of an induction motor from its nameplate: a start, with the bars that it deserves.

At the rated point the nameplate says voltage, current, power factor and slip. With the stator resistance known, the impedance between
the terminals is Rs + jωLσ + jωLM·(RR/s)/(RR/s + jωLM) (T-circuit in its inverse-Γ form; Fitzgerald, Kingsley, Umans, Electric
Machinery, ch. 6, from memory): two equations for three unknowns. The third is a usual leakage, a tenth of the stator's whole
inductance (common practice); how far another leakage, power factor and slip would move the answer is its bar.
"""

from __future__ import annotations

import math

import scipy

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate

#: Leakage over the stator's whole inductance, and the factor by which it may be another.
LEAKAGE, _OTHER = 0.10, 2.0
#: Shares tried in turn where a nameplate leaves less for the leakage.
_SMALLER = (1.0, 0.8, 0.6, 0.45, 0.3)
#: How far a nameplate's power factor and slip may be off.
_FACTOR_OFF, _SLIP_OFF = 0.02, 0.2


def nameplate_circuit(
    *, volts: float, current: float, hertz: float, power_factor: float, slip: float, stator: float
) -> dict[str, Estimate]:
    """Estimate ``leakage_inductance``, ``magnetizing_inductance`` [H], ``rotor_resistance`` [Ω] and ``rotor_time_constant`` [s] per phase of the star.

    Parameters
    ----------
    volts, current
        Phase peak of the star, V and A.
    hertz, power_factor, slip
        Of the rated point.
    stator
        Ω a phase.

    Raises
    ------
    Refusal
        The figures contradict each other: no such circuit has this power factor.
    """
    if not 0 < slip < 0.5:
        raise Refusal(
            f"a rated slip of {100 * slip:.3g} % is not possible", "check speed and frequency on the plate", field="plate.rated_speed"
        )
    tried = ((s * LEAKAGE, _solve(volts, current, hertz, power_factor, slip=slip, stator=stator, share=s * LEAKAGE)) for s in _SMALLER)
    share, found = next(((s, f) for s, f in tried if f is not None), (LEAKAGE, None))
    if found is None:
        raise Refusal(
            f"no motor with {current:.3g} A peak at a power factor of {power_factor:.3g} and {stator:.3g} Ω fits this nameplate",
            "check current and its base, voltage, and star or delta",
            field="plate.power_factor",
        )
    others = [
        _solve(volts, current, hertz, power_factor, slip=slip, stator=stator, share=share * _OTHER),
        _solve(volts, current, hertz, power_factor, slip=slip, stator=stator, share=share / _OTHER),
        _solve(volts, current, hertz, min(power_factor + _FACTOR_OFF, 0.99), slip=slip, stator=stator, share=share),
        _solve(volts, current, hertz, power_factor - _FACTOR_OFF, slip=slip, stator=stator, share=share),
        _solve(volts, current, hertz, power_factor, slip=slip * (1 + _SLIP_OFF), stator=stator, share=share),
    ]
    names = ("leakage_inductance", "magnetizing_inductance", "rotor_resistance", "rotor_time_constant")
    units = ("H", "H", "Ω", "s")
    estimates = {}
    for k, (name, unit) in enumerate(zip(names, units, strict=True)):
        # the two leakages and power factors are ends of one doubt each: the larger of both counts
        moved = [0.5 * found[k] if o is None else abs(o[k] - found[k]) for o in others]
        u = math.sqrt(max(moved[0], moved[1]) ** 2 + max(moved[2], moved[3]) ** 2 + moved[4] ** 2)
        if name == "leakage_inductance":
            u = max(u, 0.5 * found[k])
        estimates[name] = Estimate.from_u(found[k], unit, u)
    return estimates


def _solve(
    volts: float, current: float, hertz: float, factor: float, slip: float, stator: float, share: float
) -> tuple[float, float, float, float] | None:
    """Return Lσ, LM, RR and Tr, or None where no circuit has these terminals."""
    omega, size = 2 * math.pi * hertz, volts / current
    rotor = size * factor - stator  # real part of the parallel branch
    whole = size * math.sqrt(max(1 - factor**2, 0.0))  # reactance between the terminals
    if rotor <= 0 or whole <= 0:
        return None
    leak = share / (1 - share)

    def over_slip(x: float) -> float:
        # of g·x²/(g² + x²) = rotor, the root of a motor below its breakdown torque
        return (x**2 - x * math.sqrt(max(x**2 - 4 * rotor**2, 0.0))) / (2 * rotor)

    def left(x: float) -> float:
        g = over_slip(x)
        return g**2 * x / (g**2 + x**2) + leak * x - whole

    low, high = 2 * rotor, 2 * rotor
    for _ in range(400):
        high *= 1.02
        if left(low) * left(high) <= 0:
            break
    else:
        return None
    x = float(scipy.optimize.brentq(left, low, high))
    g = over_slip(x)
    return leak * x / omega, x / omega, g * slip, x / omega / (g * slip)
