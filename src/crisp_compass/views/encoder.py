"""The running count of an encoder or its absolute word, and what follows from its resolution."""

from __future__ import annotations

import math

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.capture import Capture
from crisp_compass.commutation.absolute import AbsoluteResult
from crisp_compass.commutation.encoder import EncoderResult
from crisp_compass.commutation.speed_resolution import speed_resolution
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.quantities import grouped, show
from crisp_compass.views.picture import Box, Curve, DialView, Pane, Said, View

_NOTE = "Speed step: one count in one loop period, no filter. Timing one count with the timer clock is finer at low speed."


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return counts a turn, sense and electrical zero."""
    if evidence is None:
        return Said(
            "No capture yet",
            "",
            "Drop a capture of enc_a and enc_b here, best with enc_z and two line voltages, the shaft turned some whole turns by hand.",
            dial=DialView(caption="Turn the shaft by hand, drive off", rotor=20.0),
        )
    found = evidence.estimates
    counts, direction, zero = (found.get(k) for k in ("counts_per_rev", "direction", "zero_offset"))
    parts = []
    if direction is not None:
        parts.append(f"counts {'rise' if direction.value > 0 else 'fall'} when the motor turns A → B → C")
    if zero is not None and zero.interval95:
        half = (zero.interval95[1] - zero.interval95[0]) / 2
        where = "at word 0" if "bits" in found else "in the middle of the index"
        parts.append(f"θe {show(zero.value, 'rad', 4)} ±{show(half, 'rad', 2)} {where}")
    reason = "; ".join(parts) + ". " if parts else ""
    doubt = ""
    if counts is not None:
        bits = found.get("bits")
        doubt = f"{bits.value:.0f} bits a turn, absolute" if bits else f"{counts.value / 4:.0f} lines a turn"
    angle = math.degrees(zero.value) if zero is not None else None
    caption = "The index and two voltages tell the zero"
    if angle is not None:
        caption = f"At the index the rotor's flux lies at {angle:.1f}°"
    return Said(
        f"{grouped(counts.value)} counts" if counts else "Undetermined",
        doubt,
        f"{reason[:1].upper()}{reason[1:]}{evidence.method[:1].upper() if not reason else evidence.method[:1]}{evidence.method[1:]}.",
        "Settle encoder…",
        can_settle=counts is not None,
        dial=DialView(caption=caption, rotor=angle),
        boxes=(Box("What follows", _rows(bench, evidence, counts.value), _NOTE),) if counts else (),
    )


def _rows(bench: Bench, evidence: Evidence, counts: float) -> tuple[tuple[str, str], ...]:
    found = evidence.estimates
    loop = bench.settled["pwm"].values["loop_hz"].value if "pwm" in bench.settled else 20e3
    plate = bench.settings.plate
    p, top = pole_pairs_of(plate), plate.top_speed
    fine = speed_resolution(round(counts), loop, bench.settings.pwm.timer_hz)
    rows = [
        ("counts at ×1, ×2, ×4", f"{counts / 4:.0f}, {counts / 2:.0f}, {counts:.0f}"),
        ("counts, electrical turn", f"{counts / p:.5g}"),
        ("one count, mechanical", show(2 * math.pi / counts, "rad")),
        ("one count, electrical", show(2 * math.pi * p / counts, "rad")),
        (f"speed step at {show(loop, 'Hz')}", f"{fine.counting * RPM_PER_RAD_S:.1f} rpm"),
        ("timing is finer below", f"{grouped(fine.alike * RPM_PER_RAD_S)} rpm"),
        ("edges at top speed", show(counts * top / (2 * math.pi), "Hz")),
        ("input follows up to", show(fine.top, "rad/s")),
    ]
    if "bits" in found:
        rows[0] = ("bits of a turn, of turns", f"{found['bits'].value:.0f}, {found['turn_bits'].value:.0f}")
    if "offset_counts" in found:
        rows.append(("θe is 0 at word", f"{found['offset_counts'].value:.1f}"))
    rows += family_of(bench).encoder_rows(plate, counts)
    if "channel_phase" in found:
        rows.append(("B follows A by", show(found["channel_phase"].value, "rad")))
    return tuple(rows)


def panes(_: Capture, result: EncoderResult | AbsoluteResult) -> tuple[Pane, ...]:
    """Return the running count or word over time."""
    absolute = isinstance(result, AbsoluteResult)
    counts = result.position if isinstance(result, AbsoluteResult) else result.counts.astype(np.float64)
    name = "position word, unwrapped" if absolute else "count, ×4"
    curve = Curve("counts", "measured", result.time, counts, dense=True)
    return (Pane("running count", ("time", "s"), (name, ""), (curve,), printed=True),)


VIEW = View(said, panes)
