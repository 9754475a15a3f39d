"""Commutation, encoder: how many counts has a turn, and where is the rotor's zero?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.records import Evidence
from crisp_compass.commutation.absolute import AbsoluteResult
from crisp_compass.commutation.encoder import EncoderResult
from crisp_compass.commutation.speed_resolution import speed_resolution
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.quantities import show

_SETTLED = ("counts_per_rev", "direction", "zero_offset")
_KEPT = (*_SETTLED, "bits", "turn_bits", "offset_counts")


class EncoderPage(CapturePage):
    """The running count, what it says of resolution and sense, and the electrical zero on the dial."""

    key = "commutation"
    section = "Encoder"
    question = "How many counts has a turn, and where is the rotor's zero?"
    fields = (
        Entry(
            "revolutions", "Turns counted", width=116, plain=True, tip="Turns of the shaft by hand over the capture"
        ),
    )

    def build(self, area: QWidget) -> None:
        self.trace = Plot(("time", "s"), ("count, ×4", ""), name="running count")
        self.trace.curve("counts", "deep", width=1.8, dense=True)
        self.rows = Rows("What follows", width=312)
        beside(area, (self.trace,), (self.rows,))

    def show_texts(self) -> None:
        evidence = self.evidence()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        if evidence is None:
            self.answer.show_answer(
                self.empty_answer,
                "",
                "Drop a capture of enc_a and enc_b here, best with enc_z and two line voltages, the shaft turned some whole turns by hand.",
            )
            self.findings.show_findings(())
            self.rows.show_rows(())
            self.show_dial(DialView(caption="Turn the shaft by hand, drive off", rotor=20.0))
            return
        found = evidence.estimates
        counts, direction, zero = (found.get(k) for k in _SETTLED)
        parts = []
        if direction is not None:
            parts.append(f"counts {'rise' if direction.value > 0 else 'fall'} when the motor turns A → B → C")
        if zero is not None and zero.interval95:
            half = (zero.interval95[1] - zero.interval95[0]) / 2
            parts.append(
                f"θe {show(zero.value, 'rad', 4)} ±{show(half, 'rad', 2)} in the middle of the index"
                if "bits" not in found
                else f"θe {show(zero.value, 'rad', 4)} ±{show(half, 'rad', 2)} at word 0"
            )
        text = f"{counts.value:.0f} counts" if counts else "Undetermined"
        self.answer.show_answer(
            text,
            self._second(evidence, counts.value) if counts else "",
            f"{'; '.join(parts)}. {evidence.method}.".lstrip(". ").capitalize()
            if not parts
            else f"{'; '.join(parts)[:1].upper()}{'; '.join(parts)[1:]}. {evidence.method}.",
        )
        self.main_button.setEnabled(counts is not None)
        self.main_button.setText("Settle encoder…")
        self.findings.show_findings(findings_of(evidence))
        self._show_rows(counts.value if counts else None)
        angle = math.degrees(zero.value) if zero is not None else None
        caption = (
            f"At the index the rotor's flux lies at {angle:.1f}°"
            if angle is not None
            else "The index and two voltages tell the zero"
        )
        self.show_dial(DialView(caption=caption, rotor=angle))

    @staticmethod
    def _second(evidence: Evidence, counts: float) -> str:
        if "bits" in evidence.estimates:
            return f"{evidence.estimates['bits'].value:.0f} bits a turn, absolute"
        return f"{counts / 4:.0f} lines a turn"

    def _show_rows(self, counts: float | None) -> None:
        if counts is None:
            self.rows.show_rows(())
            return
        bench = self.seen
        loop = bench.settled["pwm"].values["loop_hz"].value if "pwm" in bench.settled else 20e3
        plate = bench.settings.plate
        p, top = pole_pairs_of(plate), plate.top_speed
        fine = speed_resolution(round(counts), loop, bench.settings.pwm.timer_hz)
        evidence = self.evidence()
        phase = evidence.estimates.get("channel_phase") if evidence else None
        rows = [
            ("counts at ×1, ×2, ×4", f"{counts / 4:.0f}, {counts / 2:.0f}, {counts:.0f}"),
            ("counts, electrical turn", f"{counts / p:.5g}"),
            ("one count, mechanical", show(2 * math.pi / counts, "rad")),
            ("one count, electrical", show(2 * math.pi * p / counts, "rad")),
            (f"speed step at {show(loop, 'Hz')}", f"{fine.counting * RPM_PER_RAD_S:.1f} rpm"),
            ("timing is finer below", f"{fine.alike * RPM_PER_RAD_S:.0f} rpm"),
            ("edges at top speed", show(counts * top / (2 * math.pi), "Hz")),
            ("input follows up to", show(fine.top, "rad/s")),
        ]
        if evidence and "bits" in evidence.estimates:
            bits, turn_bits = (evidence.estimates[k].value for k in ("bits", "turn_bits"))
            rows[0] = ("bits of a turn, of turns", f"{bits:.0f}, {turn_bits:.0f}")
        if evidence and "offset_counts" in evidence.estimates:
            rows.append(("θe is 0 at word", f"{evidence.estimates['offset_counts'].value:.1f}"))
        rows += family_of(bench).encoder_rows(plate, counts)
        if phase is not None:
            rows.append(("B follows A by", show(phase.value, "rad")))
        self.rows.show_rows(
            rows,
            note="Speed step: one count in one loop period, no filter. Timing one count with the timer clock is finer at low speed.",
        )

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        if isinstance(result, EncoderResult):
            self.trace.set("counts", result.time, result.counts.astype(np.float64))
        elif isinstance(result, AbsoluteResult):
            self.trace.set("counts", result.time, result.position)
