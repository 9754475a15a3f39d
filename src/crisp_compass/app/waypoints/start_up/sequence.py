"""Start-up, sequence: how does it start without a sensor?"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QApplication, QWidget

from crisp_compass.app.document import Document
from crisp_compass.app.page.fields import Entry
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.widgets.parts import beside, button, label
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.models import Bench
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.sensorless import by_injection, shaft_of
from crisp_compass.errors import Refusal
from crisp_compass.plant import state
from crisp_compass.quantities import grouped, show
from crisp_compass.record.start_rows import rows_c, rows_json
from crisp_compass.sensorless.start import Row, as_csv, as_table, judge_rows, parse_rows
from crisp_compass.studies.start import OUTCOMES, STARTED, StartOutlook, start_outlook
from crisp_compass.views.picture import DialView

_CAUTION = "Nothing coupled, rotor guarded, eyes and fingers away. Aligning jerks the shaft, either way; keep the supply's current limit low for the first start."

_INJECTS = "Nothing coupled, rotor guarded, eyes and fingers away. If the pole is found wrongly, the shaft turns backwards at once; keep the supply's current limit low for the first start."


class SequencePage(PlayedPage):
    """The designed start, played by the plant from the unluckiest of six rotor angles; its rows as the firmware takes them."""

    key = "start_up"
    section = "Sequence"
    dial = DialView(caption="The rotor follows a turning current", rotor=-50.0, current=(0.0, 0.8))
    fields = (
        Entry("align_current", "Align", "A", width=92, base="peak", tip="Half of the rated current if empty"),
        Entry(
            "align_time",
            "For, each",
            "s",
            width=92,
            tip="Two directions a quarter turn apart; from the rotor's swing if empty",
        ),
        Entry("ramp_current", "Ramp", "A", width=92, base="peak", tip="Three quarters of the rated current if empty"),
        Entry("load_angle", "Load angle", "°", width=92, tip="By which the current may lead the rotor; 50° is usual"),
        Entry(
            "acceleration", width=112, tip="Half of what the current can follow if empty"
        ),
        Entry("times", "EMF over error", width=112, plain=True, tip="At hand-over: 3 to 5 times is usual"),
        Entry("hand_over", "Hand-over", "rpm", width=104, tip="From the voltage error if empty"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.found: StartOutlook | None
        self.pasted: tuple[Row, ...] | None = None
        self.speed = Plot(("time", "s"), ("speed", "rpm"), name="start, speed")
        self.speed.curve("forced", "deep", width=1.4, dash="dash", title="forced by the firmware")
        self.speed.curve("true", "magenta", width=2.2, title="rotor, simulated")
        self.speed.curve("estimate", "ink", width=1.4, dash="dot", title="estimate, where valid")
        self.angle = Plot(("time", "s"), ("load angle", "°"), name="start, load angle")
        self.angle.rule(y=0.0, token="ink")
        self.angle.curve("lead", "magenta", width=1.6, title="rotor behind the current")
        self.angle.curve("error", "ink", width=1.4, dash="dot", title="estimate less rotor")
        self.rows = Rows("Rows for the firmware", width=364, prose=True)
        self.column.addWidget(beside(QWidget(), (self.speed, self.angle), (self.rows,), (5, 3)), 1)
        self.caution = label(_CAUTION, "caution")
        self.caution.setWordWrap(True)
        self.column.addWidget(self.caution)
        self.copies = []
        for text, make in (("Copy C", self._c), ("Copy JSON", rows_json), ("Copy table", as_csv)):
            copy = button(text, "small")
            copy.clicked.connect(lambda _on=False, m=make: self._copy(m))
            self.copies.append(copy)
        self.paste = button("Judge pasted rows", "small")
        self.paste.setToolTip(
            "Reads current, end speed in rpm, duration, perhaps running time, estimator 0 or 1 from the clipboard; again: back to the design"
        )
        self.paste.clicked.connect(self.judge_clipboard)
        self.finish("Settle start…", *self.copies, self.paste)

    # ---- rows

    def _c(self, rows: tuple[Row, ...]) -> str:
        return rows_c(rows, f"{self.seen.name or 'bench'}: start without a sensor")

    def _injects(self) -> bool:
        return by_injection(self.seen)

    def _shown_rows(self) -> tuple[Row, ...]:
        return self.pasted or (self.found.design.plan.rows if self.found is not None else ())

    def _copy(self, make: object) -> None:
        if callable(make) and self._shown_rows():
            QApplication.clipboard().setText(make(self._shown_rows()))

    def judge_clipboard(self) -> None:
        """Read rows from the clipboard and judge them against this motor; a second press goes back to the design."""
        if self._injects():
            self.refuse(
                Refusal(
                    "this start is by injection and runs no rows", "choose the forced angle on the section Injection"
                )
            )
            return
        if self.pasted is not None:
            self.pasted = None
        else:
            try:
                self.pasted = parse_rows(QApplication.clipboard().text())
            except Refusal as refusal:
                self.refuse(refusal)
                return
        self.paste.setText("Judge pasted rows" if self.pasted is None else "Back to the design")
        self.refresh()

    # ---- showing

    def question_for(self, bench: Bench) -> Callable[[], StartOutlook]:
        rows = self.pasted
        return lambda: start_outlook(bench, None if by_injection(bench) else rows)

    def refresh(self) -> None:
        self.caution.setText(_INJECTS if self._injects() else _CAUTION)
        if self._injects():
            self.pasted = None
        for name in ("align_time", "load_angle", "acceleration"):  # injection runs no rows
            self._fields[name].setEnabled(not self._injects())
        for press in (*self.copies, self.paste):
            press.setEnabled(not self._injects())
        super().refresh()

    def rests_on(self, bench: Bench) -> object:
        return super().rests_on(bench), self.pasted

    def show_found(self) -> None:
        found = self.found
        assert found is not None
        played = found.played
        rpm = RPM_PER_RAD_S
        by_field = np.isin(played.phase, (state.STARTING, state.FORCING))
        forced = np.where(by_field, played.forced * rpm, np.nan)
        self.speed.set("forced", played.time, forced)
        self.speed.set("true", played.time, played.speed * rpm)
        self.speed.set("estimate", played.time, played.seen * rpm)
        lead = np.degrees(np.remainder(played.field - played.true_angle + math.pi, 2 * math.pi) - math.pi)
        self.angle.set("lead", played.time, np.where(by_field, lead, np.nan))
        self.angle.set("error", played.time, np.degrees(played.deviation))
        for plot in (self.speed, self.angle):
            plot.fit()
        self._say(found)
        self._show_rows(found)

    def _say(self, found: StartOutlook) -> None:
        design, played = found.design, found.played
        shaft, s = shaft_of(self.seen), self.seen.settings.start_up
        findings = list(design.findings)
        if self.pasted is not None:
            findings = judge_rows(shaft, self.pasted, s.load_angle, design.lowest)
        if found.started < found.tried:
            what = OUTCOMES[played.outcome] + (f" ({played.fault})" if played.fault else "")
            verdict = f"{found.started} of {found.tried} rotor angles start; from the one shown it {what}"
        else:
            when = f", closed after {played.closed:.2f} s" if played.closed is not None else ""
            verdict = f"starts from all {found.tried} rotor angles, constants exact{when}"
        if self.pasted is None:
            answer = f"Hand-over at {grouped(design.hand_over * RPM_PER_RAD_S)} rpm"
            share = design.hand_over / self.seen.settings.plate.top_speed
            text = (
                f"{verdict}. Back-EMF {design.hand_over * design.estimator.psi * shaft.pole_pairs / design.error:.1f} times its error of {show(design.error, 'V')}, "
                f"{share * 100:.0f} % of top speed; {show(design.reserve, 'V')} left there."
            )
        else:
            answer, text = f"Pasted: {len(self.pasted)} rows", f"{verdict}."
        stale = self.stale_text()
        bad = played.outcome != STARTED
        turns = f"The first alignment turns the shaft by up to {math.degrees(design.plan.jerk):.0f}°, either way."
        self.answer.show_answer(
            answer,
            text[:1].upper() + text[1:],
            stale or ("By injection: the shaft stays while axis and pole are sought." if self._injects() else turns),
            stale=bool(stale) or bad,
        )
        self.findings.show_findings(findings)
        assert self.main_button is not None
        self.main_button.setEnabled(self.pasted is None and not any(f.level == "stop" for f in findings))

    def _show_rows(self, found: StartOutlook) -> None:
        design = found.design
        if self._injects():
            j = design.injection.firmware
            ramp = self.seen.settings.speed_loop.ramp
            self.rows.show_rows(
                [
                    ("1  axis", f"±{show(j.volts, 'V')} along d, {show(j.settle, 's')} steady"),
                    ("2  pole", f"±{show(j.pole_current, 'A')} along it, {show(j.pole_time, 's')} each"),
                    ("3  closed", f"at rest, then {ramp:.4g} rad/s² up"),
                    (
                        "4  back-EMF",
                        f"from {grouped(j.fades / j.gone * design.hand_over * RPM_PER_RAD_S)}, alone from {grouped(design.hand_over * RPM_PER_RAD_S)} rpm",
                    ),
                ],
                heading="What the firmware does",
                note="The start is by injection: no rows of currents and speeds are run. Section Injection has its figures.",
            )
            return
        rows = []
        for number, (current, speed, duration, end, on) in enumerate(as_table(self._shown_rows()), 1):
            name = "align" if speed == 0 else "estimate" if on else "ramp"
            rows.append(
                (f"{number}  {name}", f"{current:.3g} A  {grouped(speed)} rpm  {show(duration, 's')} → {end:.2f} s")
            )
        plan = design.plan
        settled = "still swings" if plan.swing.settled is None else show(plan.swing.settled, "s")
        rows += [
            ("rotor swings at", show(plan.own / (2 * math.pi), "Hz")),
            ("settles when aligned", f"{settled}, {math.degrees(plan.swing.rests):.1f}° off its place by friction"),
            ("ramp, of its limit", f"{plan.acceleration:.4g} of {plan.limit:.4g} rad/s²"),
            (
                "valid once",
                f"angle −20° to {math.degrees(self.seen.settings.start_up.ahead):.0f}° behind the current, length within 20 %, ten turns",
            ),
        ]
        self.rows.show_rows(
            rows, heading="Rows for the firmware", note="Current is phase peak, speed that at the row's end."
        )

    def keyPressEvent(self, event: object) -> None:
        if event.matches(QKeySequence.StandardKey.Paste):  # type: ignore[attr-defined]
            self.judge_clipboard()
            return
        super().keyPressEvent(event)  # type: ignore[arg-type]
