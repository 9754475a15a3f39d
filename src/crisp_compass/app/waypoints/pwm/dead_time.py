"""PWM, dead time: what does it cost, and how is it compensated?"""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.widgets.parts import beside
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.plate import rated_peak
from crisp_compass.course.bridge import plan_bench_pwm
from crisp_compass.course.pwm_outlook import dead_time_picture
from crisp_compass.quantities import show
from crisp_compass.views.picture import DialView


class DeadTimePage(Page):
    """The leg's loss over its current, its effect on R, harmonics and small currents, and the compensation to set."""

    key = "pwm"
    section = "Dead time"
    question = "What does dead time do, and how is it compensated?"
    fields = (
        Entry("dead_time", width=104),
        Entry("min_pulse", "Shortest pulse", "s", width=112),
        Entry("carrier_hz", width=104),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.plot = Plot(("phase current", "A"), ("voltage a leg loses", "V"), name="leg loss over current")
        self.plot.curve("loss", "magenta", width=2.2)
        self.plot.rule(y=0.0, token="line")
        self.plot.rule(x=0.0, token="line")
        self.effects = Rows("Left as it is", width=330)
        self.settings = Rows("Compensation to set", width=330)
        self.column.addWidget(beside(QWidget(), (self.plot,), (self.effects, self.settings)), 1)
        self.finish()

    def refresh(self) -> None:
        bench = self.seen
        self.show_dial(DialView(caption="The error vector jumps every 60° against the current", current=(90.0, 0.8)))
        figures = plan_bench_pwm(bench)
        picture = dead_time_picture(bench, figures)
        self.plot.set("loss", picture.current, picture.loss)
        self.plot.fit()
        effect, rated = picture.effect, show(rated_peak(bench.settings.plate), "A")
        self.answer.show_answer(
            f"{show(picture.volts, 'V')} a leg",
            f"against its current; {show(figures.dead_time_vector, 'V')} of the held vector, {show(effect.fundamental, 'V')} of the turning one",
            f"Below {show(effect.swallowed, 'A')} the winding sees nothing of a command: current sticks at zero.",
        )
        self.effects.show_rows([
            (f"R by command at {rated} reads", f"{show(effect.resistance_error, 'Ω')} too high"), ("sixth harmonic of v_q", show(effect.sixth_q, "V")),
            ("sixth harmonic of v_d", show(effect.sixth_d, "V")), ("current swallowed up to", show(effect.swallowed, "A")),
            ("limit left", f"{show(figures.v_usable, 'V')} of {show(figures.v_limit, 'V')}"),
        ])  # fmt: skip
        self.settings.show_rows(
            [
                ("add to a leg's compare, i > 0", f"+{picture.counts:g} counts"),
                ("the same in volts", show(picture.volts, "V")),
                ("fade in over", f"±{show(picture.knee, 'A')}"),
            ],
            note="Within half the ripple the current changes its sign in every period and part of the loss cancels; a full step there makes the current chatter.",
        )
