"""A measured run as the estimator sees it: speed, back-EMF, when it was valid, and the error where the true angle is known."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.quantities import grouped, show
from crisp_compass.sensorless.observe import Observed
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_HINT = "Capture both currents and the two line voltages (means over a sampling period, as the firmware commands them) while the motor starts, and drop the file here."
_DIAL = DialView(caption="The back-EMF stands 90° ahead of the rotor", rotor=25.0, voltage=(115.0, 0.7))


def said(_: Bench, evidence: Evidence | None, __: object) -> Said:
    """Return from when the estimate was valid, and how far it reached."""
    if evidence is None:
        return Said("No capture yet", "", _HINT, dial=_DIAL)
    found = evidence.estimates
    top, since, share = found["end_speed"], found["valid_from"], found["valid_share"]
    rows = [
        ("mean speed while valid", f"{grouped(found['speed'].value * RPM_PER_RAD_S)} rpm"),
        ("speed at the end", f"{grouped(top.value * RPM_PER_RAD_S)} rpm"),
        ("torque current there", show(found["end_current"].value, "A")),
        ("valid", f"{100 * share.value:.1f} % of the rows"),
    ]
    if "angle_error" in found:
        rows.append(("angle error, rms", f"{math.degrees(found['angle_error'].value):.2f}°"))
    return Said(
        f"Valid from {show(since.value, 's')}", f"up to {grouped(top.value * RPM_PER_RAD_S)} rpm", f"{evidence.method[:1].upper()}{evidence.method[1:]}.",
        dial=_DIAL, boxes=(Box("What the estimator saw", tuple(rows)),),
    )  # fmt: skip


def panes(_: Capture, result: Observed) -> tuple[Pane, ...]:
    """Return the estimated speed, the back-EMF against ψω, and the error where there is one."""
    x = ("time", "s")
    rpm = result.speed * RPM_PER_RAD_S
    valid = np.where(result.valid, rpm, np.nan)
    around = float(np.nanmax(np.abs(valid), initial=1.0)) * 1.2
    speed = (
        Curve("estimate, not valid", "left out", result.time, np.where(~result.valid & (np.abs(rpm) < around), rpm, np.nan), dense=True),
        Curve("estimate, valid", "fit", result.time, valid),
    )  # fmt: skip
    expected = np.abs(result.speed) * result.estimator.psi * result.pole_pairs
    emf = (
        Curve("back-EMF seen", "measured", result.time, result.emf, dense=True),
        Curve("flux linkage times speed", "fit", result.time, np.where(result.valid, expected, np.nan)),
    )
    found = [
        Pane("estimated speed", x, ("speed", "rpm"), speed, printed=True),
        Pane("back-EMF", x, ("back-EMF", "V"), emf, printed=True),
    ]
    if result.deviation is not None:
        error = np.where(result.valid, np.degrees(result.deviation), np.nan)
        found[1] = Pane(
            "angle error",
            x,
            ("estimated less true", "°"),
            (Curve("error", "measured", result.time, error, dense=True),),
            zero=True,
            printed=True,
        )
    return tuple(found)


VIEW = View(said, panes)
