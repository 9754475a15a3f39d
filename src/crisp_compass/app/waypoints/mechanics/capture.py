"""Mechanics: how heavy does the shaft turn, and how much does it drag?"""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.dial import DialView
from crisp_compass.app.page.capture_page import CapturePage
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import Evaluated, findings_of
from crisp_compass.course.waypoints.mechanics import torque_constant_of
from crisp_compass.identify.mechanics import MechanicsResult
from crisp_compass.quantities import show, show_with_error


class MechanicsPage(CapturePage):
    """Run-up and coast with the fitted speed; until a capture is settled the plate's figures stand in."""

    key = "mechanics"
    section = "Capture"
    fields = (
        Entry("plate.inertia", "Plate: inertia", "kg·m²", width=150, plain=True),
        Entry("plate.viscous", "viscous friction", "N·m·s/rad", width=140),
        Entry("plate.coulomb", "Coulomb friction", "N·m", width=118),
    )

    def build(self, area: QWidget) -> None:
        self.trace = Plot(("time", "s"), ("speed", "rpm"), name="run-up and coast")
        self.trace.curve("measured", "deep", width=2.5, dense=True)
        self.trace.curve("fit", "magenta", width=1.4)
        self.current = Plot(("time", "s"), ("current i_q", "A"), name="driving current")
        self.current.curve("measured", "deep", width=1, dense=True)
        self.residual = Plot(("time", "s"), ("residual", "rpm"), name="residual")
        self.residual.rule(y=0.0)
        self.residual.curve("residual", "deep", width=1, dense=True)
        self.three_plots(area, self.trace, self.current, self.residual)

    def show_texts(self) -> None:
        bench = self.document.bench
        plate = bench.settings.plate
        evidence = self.evidence()
        assert self.main_button is not None
        self.main_button.setEnabled(evidence is not None)
        self.show_dial(DialView(caption="The current drives, then nothing does", rotor=40.0, current=(130.0, 0.7)))
        if evidence is None:
            settled = self.settled_quantity("inertia")
            known = torque_constant_of(bench)
            kt = (
                f"Kt is {show(known[0], 'N·m/A')} by {known[2]}. "
                if known
                else "Settle the flux first, or enter Kt on the plate. "
            )
            if settled:
                self.answer.show_answer(show(settled.value, "kg·m²"), "settled", bench.settled["mechanics"].reason)
            else:
                self.answer.show_answer(
                    self.empty_answer if plate.inertia is None else show(plate.inertia, "kg·m²"),
                    "" if plate.inertia is None else "by the plate until it is measured",
                    f"{kt}Drop a run-up followed by a coast here (speed and i_q), load off, drive switched off at speed.",
                )
            self.main_button.setText("Settle…")
            self.findings.show_findings(())
            return
        estimates = evidence.estimates
        found = estimates["inertia"]
        half = (found.interval95[1] - found.interval95[0]) / 2 if found.interval95 else 0.0
        shown, doubt = show_with_error(found.value, half, "kg·m²")
        parts = []
        for name in ("viscous_friction", "coulomb_friction"):
            q = estimates[name]
            assert q.interval95
            value, bar = show_with_error(q.value, (q.interval95[1] - q.interval95[0]) / 2, q.unit)
            parts.append(f"{name.split('_')[0].capitalize()} {value} {bar}")
        self.answer.show_answer(
            shown,
            f"{doubt}, 95 %" if half else "known, as entered on the plate",
            f"{', '.join(parts)}. {evidence.method[:1].upper()}{evidence.method[1:]}.",
        )
        self.main_button.setText(f"Settle {show(found.value, 'kg·m²')}…")
        self.findings.show_findings(findings_of(evidence))

    def draw(self, evaluated: Evaluated) -> None:
        result = evaluated.result
        assert isinstance(result, MechanicsResult)
        capture = evaluated.capture
        self.trace.set("measured", capture.time, capture["speed"] * RPM_PER_RAD_S)
        self.trace.set("fit", result.time, result.model * RPM_PER_RAD_S)
        self.current.set("measured", result.time, result.current)
        used = np.isfinite(result.residual)
        self.residual.set("residual", result.time[used], result.residual[used] * RPM_PER_RAD_S)
