"""PWM: how much voltage and time does the modulator give?"""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel

from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.waypoints.pwm.schemes import NAMES
from crisp_compass.app.widgets.parts import Text, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.bridge import plan_bench_pwm
from crisp_compass.course.open_points import presumed_text
from crisp_compass.modulation.pwm import PwmFigures
from crisp_compass.motor import three_phases, turns_field
from crisp_compass.quantities import show, significant
from crisp_compass.studies.step_prediction import pwm_picture
from crisp_compass.views.picture import DialView

_LEGS = (("1", "deep", "solid"), ("2", "ochre", "dash"), ("3", "moss", "dot"), ("4", "soft", "dash"))


class PwmPage(Page):
    """Timer and dead time in, usable voltage, counts and delay out."""

    key = "pwm"
    section = "Timer"
    fields = (
        Entry("timer_hz", width=108),
        Entry("carrier_hz", width=100),
        Entry("dead_time", width=96),
        Pick("aligned", "Aligned", {"centre": "centre", "edge": "edge"}, width=88),
        Pick("scheme", "Scheme", NAMES, width=124),
        Pick(
            "decay",
            "Decay",
            {"slow": "slow", "fast": "fast"},
            width=84,
            tip="Slow: one leg of a winding switches; fast: both",
        ),
        Pick("updates", "Updates per period", {"once": "once", "twice": "twice"}, width=118),
        Entry("processor_hz", width=118, tip="What the loop is computed with; the timer's clock if empty"),
        Entry("loop_divider", "Loads per loop", width=104, tip="Timer loads per step of the current loop"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.duty = Plot(("electrical angle", "°"), ("duty", ""), name="duties at the linear limit")
        for name, token, dash in _LEGS:
            self.duty.curve(name, token, width=2, dash=dash)
        self.steps = Plot(("speed", "rpm"), ("loop steps per electrical turn", ""), name="loop steps per turn")
        self.steps.curve("steps", "magenta", width=2)
        self.steps.curve("top speed", "ochre", dash="dot")
        self.steps.rule(y=16.0, token="soft", dash="dash")
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(self.duty, 3)
        row.addWidget(self.steps, 2)
        self.column.addLayout(row, 1)
        self._facts = QGridLayout()
        self._facts.setHorizontalSpacing(22)
        self._facts.setVerticalSpacing(3)
        self.column.addLayout(self._facts)
        self._names: list[QLabel] = []
        self._values: list[Text] = []
        self.finish("Settle PWM…")

    def refresh(self) -> None:
        bench = self.seen
        assert self.main_button is not None
        figures = plan_bench_pwm(bench)
        self.main_button.setEnabled(True)
        picture = pwm_picture(bench, figures.loop_hz, figures.v_limit)
        said = presumed_text(self.document.bench, "plate", "v_bus", "top_speed")
        star = three_phases(bench)
        turns = turns_field(bench)
        self.steps.setVisible(turns)
        self.duty.set_axes(("electrical angle", "°") if turns else ("armature voltage", "V"), ("duty", ""))
        self._fields["scheme"].setVisible(star)
        self._fields["decay"].setVisible(not star)
        sampled = ("settling", "sample_time") if star else ()
        fields = presumed_text(self.document.bench, "pwm", "timer_hz", "carrier_hz", "dead_time", *sampled)
        stale = self.stale_text() or f"{said} {fields}".strip()
        self.answer.show_answer(
            f"{show(figures.v_usable, 'V')} usable",
            f"{'phase' if star else 'winding'} peak, of {show(figures.v_limit, 'V')} linear limit; dead time costs {show(figures.dead_time_voltage, 'V')} a leg",
            stale
            or f"{picture.verdict.text} The loop acts {show(figures.loop_delay, 's')} late: its whole delay, as Current loop has it.".strip(),
            stale=bool(stale),
        )
        self.findings.show_findings([f for f in (*figures.findings, picture.verdict) if f.level != "info"])
        self.duty.set_titles({key: name for (key, _, _), name in zip(_LEGS, picture.legs, strict=False)})
        for k, (key, _, _) in enumerate(_LEGS):
            there = k < len(picture.legs)
            self.duty.set(key, picture.angle if there else [], picture.duty[:, k] if there else [])
        rpm = picture.speed * RPM_PER_RAD_S
        self.steps.set("steps", rpm, picture.steps)
        top = bench.settings.plate.top_speed * RPM_PER_RAD_S
        self.steps.set("top speed", [top, top], [0.0, float(picture.steps[0])])
        self.duty.keep_in_view()
        self.steps.keep_in_view()
        self._show_facts(figures, picture.ripple)
        self.show_dial(
            DialView(
                caption=f"{'Hexagon' if star else 'Square'}: what the bridges reach; circle: every direction",
                voltage=(20.0, 1.0),
            )
        )

    def _show_facts(self, figures: PwmFigures, ripple: float | None) -> None:
        facts = (
            ("period", f"{figures.period_counts} counts"), ("carrier", show(figures.carrier_actual_hz, "Hz", 4)),
            ("one count", show(figures.voltage_step, "V")), ("duty step", f"{significant(100 * figures.duty_step, 2)} %"),
            ("dead time", f"{figures.dead_time_counts} counts"), ("error vector", show(figures.dead_time_vector, "V")),
            ("loop rate", show(figures.loop_hz, "Hz")), ("loop delay", show(figures.loop_delay, "s")),
            ("ripple, at most", show(ripple, "A", 2)) if ripple is not None else ("carrier", "audible" if figures.audible else "not audible"),
        )  # fmt: skip
        if not self._values:
            for k, (name, _) in enumerate(facts):
                self._names.append(label(name, "label"))
                self._facts.addWidget(self._names[-1], 0, k)
                self._values.append(Text())
                self._facts.addWidget(self._values[-1], 1, k)
        for named, shown, (name, value) in zip(self._names, self._values, facts, strict=True):
            named.setText(name)
            shown.setText(value)
