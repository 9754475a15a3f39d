"""Flux linkage from whatever a capture holds: open windings, a running motor, an armature."""

from __future__ import annotations

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Result
from crisp_compass.identify.armature import fit_armature
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.emf import GEOMETRY
from crisp_compass.identify.flux import fit_flux
from crisp_compass.identify.running import fit_running
from crisp_compass.identify.two_phase import fit_winding_flux


def fit_any_flux(
    capture: Capture,
    *,
    pole_pairs: int | None = None,
    turns: float | None = None,
    r: float | None = None,
    family: str | None = None,
) -> Result:
    """Estimate the flux linkage by what the capture's channels and its kind of motor allow.

    ``turns`` of the shaft counted by hand and ``r`` [Ω] are for some of them only: where one has no effect it is refused, as is a motor
    without flux of its own.
    """
    kind = family_of_capture(capture, family)
    running = "v_q" in capture and not any(name in capture for name in GEOMETRY)
    given = {"--pole-pairs": pole_pairs, "--turns": turns, "--r": r}

    def refuse(beside: str, *options: str) -> None:
        for option in options:
            if given[option] is not None:
                raise Refusal(f"it has no effect beside {beside}", "leave it out", where=option)

    if kind == "induction":
        raise Refusal(
            "an induction motor carries no flux of its own",
            "use identify induction",
            where=capture.source,
            code="family",
        )
    if kind == "brushed":
        refuse("a brushed motor", "--pole-pairs", "--turns", "--r")
        return fit_armature(capture)
    if kind == "stepper":
        refuse("a stepper's open windings", "--r")
        return fit_winding_flux(capture, pole_pairs=pole_pairs, turns=turns)
    if running:
        refuse("a running motor (v_q)", "--turns")
        return fit_running(capture, pole_pairs=pole_pairs, r=r)
    refuse("open-circuit voltages", "--r")
    return fit_flux(capture, pole_pairs=pole_pairs, turns=turns)
