"""Circuit, rotor time constant: what does a wrong one do to torque and flux?"""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.rules import need
from crisp_compass.course.circuit import WrongRotor, wrong_rotor
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show
from crisp_compass.views.picture import DialView


class RotorPage(Page):
    """Torque and flux over the torque current, right and with the error; the dial shows the frame that lags or leads."""

    key = "circuit"
    section = "Rotor time constant"
    question = "What does a wrong rotor time constant do?"
    fields = (
        Entry(
            "rotor_error",
            "Firmware's Tr wrong by",
            "%",
            width=160,
            tip="A rotor 100 K warmer has a Tr about 28 % shorter",
        ),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.torque = Plot(("torque current i_q", "A"), ("torque", "N·m"), name="torque over i_q")
        self.torque.curve("asked", "ink", width=1.2, dash="dash", title="asked for")
        self.torque.curve("true", "magenta", width=2.2, title="made")
        self.flux = Plot(("torque current i_q", "A"), ("flux, of wanted", ""), name="flux over i_q")
        self.flux.rule(y=1.0, token="ink", dash="dash")
        self.flux.curve("true", "magenta", width=2.2, title="rotor flux")
        self.rows = Rows("At rated current", width=300)
        self.column.addWidget(beside(QWidget(), (self.torque, self.flux), (self.rows,)), 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        error = bench.settings.circuit.rotor_error
        found = wrong_rotor(bench, error)
        self.torque.set("asked", found.i_q, found.asked)
        self.torque.set("true", found.i_q, found.torque)
        self.flux.set("true", found.i_q, found.flux)
        for plot in (self.torque, self.flux):
            plot.fit()
        self._say(found, error)

    def show_nothing(self, refusal: Refusal) -> None:
        super().show_nothing(refusal)
        self.show_dial(DialView(caption="Field orientation believes in a rotor time constant"))

    def _say(self, found: WrongRotor, error: float) -> None:
        at = int(np.argmin(np.abs(found.i_q - found.i_q[-1] / 1.2)))
        torque, flux, lag = found.torque[at] / found.asked[at], found.flux[at], math.degrees(found.lag[at])
        tr = need(self.seen, "circuit.magnetizing_inductance") / need(self.seen, "circuit.rotor_resistance")

        def change(ratio: float) -> str:
            return f"{100 * (ratio - 1):+.0f} %".replace("-", "−")

        where = "ahead of" if lag > 0 else "behind"
        self.answer.show_answer(
            f"Torque {change(torque)}, flux {change(flux)}",
            f"at rated current, the firmware's Tr {show(tr * (1 + error), 's')} instead of {show(tr, 's')}",
            f"The firmware's axis stands {abs(lag):.0f}° {where} the true flux. Too long a Tr forces too little slip: more flux, and iron that saturates; too short a one less flux and torque.",
        )
        self.rows.show_rows([
            ("i_q", show(float(found.i_q[at]), "A")), ("asked for", show(float(found.asked[at]), "N·m")),
            ("made", show(float(found.torque[at]), "N·m")), ("flux, of wanted", f"{100 * flux:.0f} %"), ("axis off by", f"{lag:+.1f}°".replace("-", "−")),
        ], note="Without saturation, which takes the top off a flux above its rated value.")  # fmt: skip
        self.show_dial(
            DialView(
                caption=f"d is the true flux, d′ the firmware's axis: {abs(lag):.0f}° {where}",
                rotor=35.0,
                frame=35.0 + lag,
                current=(125.0 + lag, 0.8),
            )
        )
