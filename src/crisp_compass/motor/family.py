"""What a motor family is to the rest of the program: nothing else asks which family a bench's motor is of."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import Plate
from crisp_compass.bench.rules import need, settled_value
from crisp_compass.estimates import Finding, FloatArray
from crisp_compass.plant.parameters import AnyMachine, Machine

Rows = tuple[tuple[str, str], ...]
NONE: FloatArray = np.empty(0)
#: A constant's best value, its standard uncertainty (SI) and its origin, by the constant's name; None where nothing tells it.
Best = Callable[[str], tuple[float, float, str] | None]


@dataclass(frozen=True)
class PlateOutlook:
    """What the plate page shows.

    ``x`` (n,) with ``predicted``, ``limit`` (n,) or empty, ``mark`` an x position or None, all in ``x_axis`` and
    ``y_axis`` units (name, unit); ``legend`` names the predicted curve, the limit and the mark; ``rows`` under ``heading``.
    """

    answer: str
    doubt: str
    reason: str
    heading: str
    rows: Rows
    x_axis: tuple[str, str]
    y_axis: tuple[str, str]
    x: FloatArray
    predicted: FloatArray
    limit: FloatArray
    mark: float | None
    legend: tuple[str, str, str]
    findings: tuple[Finding, ...]


def waiting(answer: str, doubt: str, axes: tuple[tuple[str, str], tuple[str, str]]) -> PlateOutlook:
    """Return the outlook of a plate that does not say enough yet."""
    return PlateOutlook(
        answer, doubt, "", "What the plate implies", (), *axes, NONE, NONE, NONE, None, ("", "", ""), ()
    )


@dataclass(frozen=True)
class Winding:
    """What the loops see of a motor: ``r`` [Ω] and ``ld``, ``lq`` [H] of the way that the current takes, ``r_u``, ``l_u`` their
    standard uncertainties."""

    r: float
    ld: float
    lq: float
    r_u: float = 0.0
    l_u: float = 0.0


def _measured_winding(bench: Bench) -> Winding:
    """Return settled R, Ld and Lq."""
    r, ld, lq = (need(bench, k) for k in WINDING_KEYS)
    bars = [settled_value(bench, k) for k in ("resistance.resistance", "inductance.lq")]
    r_u, l_u = ((q.u or 0.0) if q is not None else 0.0 for q in bars)
    return Winding(r, ld, lq, r_u, l_u=l_u)


#: Settled values (``topic.name``) that the current loop and the torque of a motor with magnets rest on.
WINDING_KEYS = ("resistance.resistance", "inductance.ld", "inductance.lq")
FLUX_KEYS = ("flux.flux_linkage",)


@dataclass(frozen=True)
class Constants:
    """What a machine with magnets or brushes is made of: R [Ω], Ld, Lq [H], flux linkage or Ke [Wb], pole pairs; the share of the
    inductance that stays in saturated iron and the current [A] around which it falls."""

    r: float
    ld: float
    lq: float
    psi: float
    pole_pairs: float
    iron: tuple[float, float] = (1.0, 1.0)


def synchronous(plate: Plate, of: Constants, detent: float = 0.0) -> Machine:
    """Return the plant's machine with magnets of these constants."""
    return Machine(of.r, of.ld, of.lq, of.psi, of.pole_pairs, *of.iron, torque_factor=plate.torque_factor, detent=detent)


def _synchronous(bench: Bench, of: Constants | None) -> AnyMachine:
    assert of is not None
    return synchronous(bench.settings.plate, of)


@dataclass(frozen=True)
class Family:
    """One family of motors.

    Attributes
    ----------
    keys
        What ``plate.family`` may say for it, each with how a choice shows it.
    place
        Where it stands in a choice: the smaller comes first.
    rows
        Fields of its plate, in the rows in which people fill them in; ``sensor.kind`` and the like belong to other topics.
    outlook
        What its plate implies, from the bench and what is known best of each constant.
    pole_pairs
        Pole pairs that a plate implies; raises Refusal where it contradicts itself.
    stated
        Values of a constant [SI, per phase] that the plate states, each with its name; from plate, constant and settled resistance
        [Ω] or None.
    encoder_rows
        What an encoder's counts a turn mean for such a motor, from plate and counts.
    captures
        What its captures call it.
    phase
        What its resistance and inductance are of, as a sentence says it.
    hints
        What to drop on the pages of the constants, by waypoint.
    first_steps
        What to do first on a leg, where it is another thing than with a three-phase magnet motor.
    winding, winding_keys
        What the loops see of it, from what is settled (raises Refusal naming what is not), and the values that this rests on.
    flux, flux_keys
        The flux linkage [Wb] that makes its torque, and the values that this rests on.
    machine
        The plant's machine from its constants; where a circuit of its own makes it, these are None and it asks the bench.
    own_circuit
        Whether a rotor with a circuit of its own makes its flux: the firmware's frame is not the rotor's then.
    star, turns_field, blocks, open_loop
        Whether three legs feed a star; whether the firmware turns a field (a commutator does it otherwise); whether it may be commutated
        in six steps and its angle estimated; whether it is stepped in open loop.
    leads
        Its leads on the wiring chart, each with the drive's terminal that it belongs on.
    voltage, speed_by
        What the plate's voltage is called, and what tells the speed that the supply allows.
    believed
        What its firmware knows of it beside the usual constants, as fields of the plant's ``Control``.
    """

    keys: Mapping[str, str]
    place: int
    rows: tuple[tuple[str, ...], ...]
    outlook: Callable[[Bench, Best], PlateOutlook]
    pole_pairs: Callable[[Any], int]
    stated: Callable[[Any, str, float | None], list[tuple[str, float]]]
    captures: str = "pm"
    phase: str = "phase of the star"
    hints: Mapping[str, str] = field(default_factory=dict)
    first_steps: Mapping[str, str] = field(default_factory=dict)
    winding: Callable[[Bench], Winding] = _measured_winding
    winding_keys: tuple[str, ...] = WINDING_KEYS
    flux: Callable[[Bench], float] = lambda bench: need(bench, FLUX_KEYS[0])
    flux_keys: tuple[str, ...] = FLUX_KEYS
    machine: Callable[[Bench, Constants | None], AnyMachine] = _synchronous
    own_circuit: bool = False
    star: bool = True
    turns_field: bool = True
    blocks: bool = False
    open_loop: bool = False
    leads: tuple[tuple[str, str], ...] = (("U", "A"), ("V", "B"), ("W", "C"))
    voltage: str = "Voltage"
    speed_by: str = "Kv or Kt"
    believed: Callable[[Bench], Mapping[str, float]] = lambda _: {}
    encoder_rows: Callable[[Any, float], Rows] = lambda plate, counts: ()
