"""Flux: how much does the rotor carry?"""

from __future__ import annotations

import math

from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.open_points import presumed_text
from crisp_compass.identify.flux import FluxResult
from crisp_compass.identify.running import RunningResult
from crisp_compass.quantities import show, show_with_error


class FluxPage(CapturePage):
    """Open-circuit voltage with its fit, the frequency that falls, and the residual."""

    key = "flux"
    section = "Capture"
    fields = (
        Entry(
            "turns",
            "Turns counted",
            width=116,
            plain=True,
            tip="Whole turns of the shaft by hand over the capture: tells the pole pairs",
        ),
    )

    def build(self, area: QWidget) -> None:
        self.trace = Plot(("time", "s"), ("voltage", "V"), name="back-EMF")
        self.trace.curve("measured", "deep", width=2.5, dense=True)
        self.trace.curve("fit", "magenta", width=1, dense=True)
        self.speed = Plot(("time", "s"), ("frequency", "Hz"), name="electrical frequency")
        self.speed.curve("fit", "magenta", width=1.8)
        self.residual = Plot(("time", "s"), ("residual", "V"), name="residual")
        self.residual.rule(y=0.0)
        self.residual.curve("residual", "deep", width=1, dense=True)
        self.three_plots(area, self.trace, self.speed, self.residual)

    def show_texts(self) -> None:
        evidence = self.evidence()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        if evidence is None:
            settled = self.settled_quantity("flux_linkage")
            self.answer.show_answer(
                show(settled.value, "Wb") if settled else self.empty_answer,
                "",
                "Drop a coasting or hand-turned capture here (one to three of v_ab, v_bc, v_ca), or v_q, i_q and speed of a drive that runs at several speeds.",
            )
            self.main_button.setText("Settle…")
            self.findings.show_findings(())
            self.show_dial(DialView(caption="The rotor turns, no current flows", rotor=40.0, voltage=(130.0, 0.7)))
            return
        found = evidence.estimates["flux_linkage"]
        assert found.interval95 is not None
        shown, doubt = show_with_error(found.value, (found.interval95[1] - found.interval95[0]) / 2, "Wb")
        parts = []
        if "pole_pairs" in evidence.estimates:
            parts.append(f"{evidence.estimates['pole_pairs'].value:.0f} pole pairs seen")
        if "kt" in evidence.estimates:
            parts.append(f"Kt {show(evidence.estimates['kt'].value, 'N·m/A')} peak")
            said = presumed_text(self.document.bench, "plate", "pole_pairs")
            if said and "pole_pairs" not in evidence.estimates:
                parts.append(said.rstrip("."))
            parts.append(f"Kv {evidence.estimates['kv_peak'].value:.4g} rpm/V line peak")
        for order in ("5", "7"):
            ratio = evidence.estimates.get(f"harmonic_{order}")
            parts += [f"{order}th {100 * ratio.value:.1f} %"] if ratio else []
        shape = evidence.estimates.get("trapezoid_factor")
        parts += [f"shape {shape.value:.3f} (sine 1, trapezoid 0.95)"] if shape else []
        uneven = evidence.estimates.get("imbalance")
        parts += [f"channels within {100 * uneven.value:.2g} %"] if uneven else []
        self.answer.show_answer(
            shown,
            f"{doubt}, 95 %, peak per phase",
            f"{', '.join(parts)}. {evidence.method[:1].upper()}{evidence.method[1:]}.",
        )
        self.main_button.setText(f"Settle {show(found.value, 'Wb')}…")
        self.findings.show_findings(findings_of(evidence))
        self.show_dial(DialView(caption="Back-EMF leads the rotor's flux by 90°", rotor=40.0, voltage=(130.0, 0.7)))

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        self._label(isinstance(result, RunningResult))
        if isinstance(result, RunningResult):
            self.trace.set("measured", result.omega / (2 * math.pi), result.voltage)
            self.trace.set("fit", result.omega / (2 * math.pi), result.model)
            self.speed.set("fit", [], [])
            self.residual.set("residual", result.omega / (2 * math.pi), result.residual)
            return
        assert isinstance(result, FluxResult)
        capture = evaluated.capture
        self.trace.set("measured", capture.time, capture[result.channels[0]])  # every sample, with its spikes
        self.trace.set("fit", result.time, result.model[:, 0])
        self.speed.set("fit", result.time, abs(result.omega) / (2 * math.pi))
        self.residual.set("residual", result.time, result.residual[:, 0])

    def _label(self, running: bool) -> None:
        """Name the axes for back-EMF over time or running data over frequency."""
        x = ("electrical frequency", "Hz") if running else ("time", "s")
        self.trace.set_axes(x, ("voltage v_q", "V") if running else ("voltage", "V"))
        self.residual.set_axes(x, ("residual", "V"))
        self.speed.setVisible(not running)
