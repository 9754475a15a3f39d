"""Plate: what stands on the motor and what feeds it?"""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QPushButton, QStackedWidget, QWidget

from crisp_compass.app.autosave import now
from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.page.fields import Entry, Pick
from crisp_compass.app.waypoints.plate.beginning import Beginning
from crisp_compass.app.waypoints.plate.profile import ProfileDialog
from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.number_field import Choice, NumberField
from crisp_compass.app.widgets.plot import Plot
from crisp_compass.app.widgets.rows import Rows
from crisp_compass.bench.entered import enter, untouched, with_family
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.profile import differences, load_profile, make_profile, save_profile, take_over
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.waypoints.plate import plate_outlook
from crisp_compass.errors import Refusal
from crisp_compass.motor import FAMILIES, labels, pole_pairs_of
from crisp_compass.sensing import SENSORS
from crisp_compass.views.picture import DialView

_KV = {"line-peak": "V line peak", "line-rms": "V line rms", "six-step-dc": "V DC, six-step"}
_KT = {"peak": "A peak", "rms": "A rms", "six-step-dc": "A DC, six-step"}
_EVERY = 3
_GROUPS = {
    "kv_convention": "Kv", "kt_convention": "Kt", "i1": "Point 1", "n1": "Point 1", "i2": "Point 2", "n2": "Point 2", "current_base": "Rated current",
}  # fmt: skip


class PlatePage(Page):
    """The motor's plate by family: one answer, its picture, the derived figures, and what does not fit."""

    key = "plate"
    section = "Motor"
    arranges_fields = True
    fields = (
        Entry("pole_pairs", width=76, tip="Half of the number of poles: electrical turns in one of the shaft"),
        Entry("rated_current", width=104, tip="Continuous current, in the base beside it"),
        Pick("current_base", "given as", {"peak": "peak", "rms": "rms"}, width=76, tip="How the plate means its current"),
        Entry("top_speed", "Top speed", "rpm", width=104, tip="Highest speed of the shaft that will be asked for; 50 Hz is read as electrical"),
        Pick("connection", "Winding", {"star": "star", "delta": "delta"}, width=80, tip="How the three phases are joined inside"),
        Pick("sensor.kind", "Angle sensor", {k: s.label for k, s in SENSORS.items()}, width=132),
        Pick("stepping.encoder", "The encoder", {"closes": "closes the loops", "watches": "watches the steps"}, width=140, tip="Closes current and speed loops on the rotor’s angle; or watches that the shaft follows a field which is stepped"),
        Entry("sensor.counts_per_rev", "Counts/turn, ×4", width=108, kind="counts", tip="10000, or 2500 ppr (lines, pulses): each gives four counts"),
        Entry("kv", "Kv", "rpm/V", width=112, tip="Speed constant from the data sheet, in the convention beside it"),
        Pick("kv_convention", "per", _KV, width=134, tip="Which volts the Kv counts"),
        Entry("kt", "Kt", "N·m/A", width=126, tip="Torque constant from the data sheet, in the convention beside it"),
        Pick("kt_convention", "per", _KT, width=134, tip="Which amperes the Kt counts"),
        Entry("r", "R", "Ω", width=96, tip="Resistance from the data sheet; measured values go before it"),
        Entry("inductance", "L", "H", width=96, tip="Inductance from the data sheet; measured values go before it"),
        Pick("winding_base", "R and L are", {"line": "line to line", "phase": "per phase"}, width=112),
        Entry("ke", "Ke = Kt", "V·s/rad", width=126, tip="V·s/rad, V/1000 rpm, N·m/A or rpm/V: for a brushed motor they are one figure"),
        Entry("rated_power", "Power (W, hp, PS)", "W", width=122, tip="2 kW, 3 hp (mechanical) or 3 PS (metric)"),
        Entry("rated_speed", "Rated speed", "rpm", width=104, tip="Speed of the shaft at rated power"),
        Entry("rated_hz", "Rated frequency", "Hz", width=112, plain=True, tip="Electrical frequency on the plate, at rated speed"),
        Entry("rated_torque", "Rated torque", "N·m", width=112),
        Entry("rated_voltage", "Voltage", "V", width=104, tip="Line rms of an induction motor, of one phase of a stepper, DC of a brushed motor"),
        Entry("stall_current", "Stall current, DC", "A", width=116, tip="From the supply, the shaft held"),
        Entry("no_load_speed", "No-load speed", "rpm", width=112, tip="At rated voltage, or else at the bus voltage"),
        Entry("no_load_current", "No-load current", "A", width=116, tip="From the supply, the shaft free"),
        Entry("mains_hz", "Frequency", "Hz", width=96, plain=True, tip="Frequency on the plate"),
        Entry("power_factor", width=96, plain=True),
        Entry("efficiency", "Efficiency", "%", width=96, plain=True),
        Entry("steps_per_turn", "Steps per turn", width=108, kind="steps", tip="Full steps: 200, or 1.8°"),
        Entry("holding_torque", "Holding torque", "N·m", width=122),
        Entry("detent_torque", "Detent torque", "N·m", width=116, tip="Without current; amplitude"),
        Entry("v1", "Point 1: voltage", "V", width=112, tip="First working point of the data sheet, usually without load"),
        Entry("i1", "current", "A", width=96, tip="Current at the first working point"),
        Entry("n1", "speed", "rpm", width=96, tip="Speed at the first working point"),
        Entry("v2", "Point 2: voltage", "V", width=112, tip="Second working point, loaded or held"),
        Entry("i2", "current", "A", width=96, tip="Current at the second working point"),
        Entry("n2", "speed", "rpm", width=96, tip="Speed at the second working point; held is 0"),
    )

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.plot = Plot(("speed", "rpm"), ("phase voltage, peak", "V"), name="what the plate implies")
        self.plot.curve("predicted", "magenta", width=2)
        self.plot.curve("limit", "ink", width=1.4, dash="dash")
        self.plot.curve("mark", "ochre", width=1.4, dash="dot")
        self.rows = Rows("The same constant in every convention", width=312)
        self._begun = False
        self.beginning = Beginning()
        self.beginning.chosen.connect(self._on_chosen)
        self.beginning.wished.connect(self.wished)
        picture = QWidget()
        row = QHBoxLayout(picture)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        row.addWidget(self.plot, 1)
        row.addWidget(self.rows)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.beginning)
        self.stack.addWidget(picture)
        self.column.addWidget(self.stack, 1)
        self._build_fields()

    def _build_fields(self) -> None:
        family = self._fields["family"] = Choice("Motor", labels(), width=142)
        family.setParent(self)
        family.moved.connect(self._on_family)
        for field, group in _GROUPS.items():  # labels that only their place tells apart
            self._fields[field].set_group(group)
        self._lines = [FlowRow() for _ in range(_EVERY - 1)]
        self._lines.append(self.field_row)
        for line in self._lines[:-1]:
            self.add_row(line)
        self._arranged: tuple[tuple[str, ...], ...] = ()
        self._arrange("sinusoidal")
        profile = QPushButton("Profile")
        menu = QMenu(profile)
        menu.addAction("Save this motor as a profile…", self._ask_save_profile)
        menu.addAction("Start from a profile…", self._ask_open_profile)
        profile.setMenu(menu)
        self.finish("Settle plate…", profile)

    def _arrange(self, family: str) -> None:
        """Put the family's fields into their rows."""
        rows = FAMILIES[family].rows
        if rows is self._arranged:
            return
        self._arranged = rows
        for line in self._lines:
            line.clear_heads()
        self._wanted = {field for row in rows for field in row}
        for field, number in self._fields.items():
            number.setVisible(field in self._wanted)
        for line, row in zip(self._lines[_EVERY - len(rows) :], rows, strict=True):
            for field in row:
                line.add(self._fields[field])
        voltage = FAMILIES[family].voltage
        self._fields["rated_voltage"].set_title(voltage)
        sensor, sensors = self._fields["sensor.kind"], PLATES[family].sensors
        if isinstance(sensor, Choice):
            sensor.set_options({k: SENSORS[k].label for k in sensors}, self.document.bench.settings.sensor.kind)

    def _on_family(self, family: str) -> None:
        """Take the kind of motor with what its rated current means. One step to undo."""
        self._change(lambda bench: with_family(bench, family), "kind of motor")

    def _on_chosen(self, family: str, sensor: str, supply: str) -> None:
        """Take kind of motor, sensor and supply as one step, and go to the first figure."""
        self._begun = True
        if self._change(lambda bench: enter(enter(with_family(bench, family), "sensor", {"kind": sensor}), "supply", {"source": supply}), "own motor"):
            first = next(n for n in self.findChildren(NumberField) if n.isVisible())
            first.edit.setFocus()

    def refresh(self) -> None:
        bench = self.document.bench
        plate = bench.settings.plate
        self._arrange(plate.family)
        self._fields["stepping.encoder"].setVisible("stepping.encoder" in self._wanted and SENSORS[bench.settings.sensor.kind].counted)
        self.number(
            "rated_current"
        ).base = plate.current_base  # “5 A rms” is brought to what the plate is said to mean
        outlook = plate_outlook(bench)
        self._begun = self._begun and untouched(bench)
        self.stack.setCurrentIndex(0 if untouched(bench) and not self._begun else 1)
        if untouched(bench):
            self.answer.show_answer(
                "Nothing entered yet",
                "",
                "Enter what stands on the motor. Figures in italics are presumed; Enter in a field confirms one.",
            )
        else:
            said = presumed_text(
                bench,
                "plate",
                *(
                    f
                    for f in ("v_bus", "pole_pairs", "steps_per_turn", "rated_current", "top_speed")
                    if hasattr(plate, f)
                ),
            )
            waits = self.stale_text()
            self.answer.show_answer(
                outlook.answer, outlook.doubt, waits or f"{outlook.reason} {said}".strip(), stale=bool(waits or said)
            )
        self.findings.show_findings(outlook.findings)
        self.rows.setVisible(bool(outlook.rows))
        self.rows.show_rows(outlook.rows, heading=outlook.heading)
        self.plot.set_titles(dict(zip(("predicted", "limit", "mark"), outlook.legend, strict=True)))
        self.plot.set_axes(outlook.x_axis, outlook.y_axis)
        n = len(outlook.x)
        self.plot.set("predicted", outlook.x[: len(outlook.predicted)], outlook.predicted)
        self.plot.set("limit", outlook.x[: len(outlook.limit)], outlook.limit)
        top = max((float(y.max()) for y in (outlook.predicted, outlook.limit) if len(y)), default=0.0)
        mark = outlook.mark if n else None
        self.plot.set("mark", [] if mark is None else [mark, mark], [] if mark is None else [0.0, 1.05 * top])
        self.plot.fit()
        self.show_dial(DialView(caption=pole_pairs_caption(bench), rotor=0.0))

    # ---- profiles

    def _ask_save_profile(self) -> None:
        name = (
            (self.document.bench.settings.plate.motor or self.document.bench.name)
            .lower()
            .replace(" ", "-")
            .replace("/", "-")
        )
        path = ask_save_path(
            self,
            "Save motor profile",
            self.document.base / f"{name}.motor.json",
            "Motor profiles (*.motor.json)",
            suffixes=(".motor.json",),
        )
        if path is not None:
            self.save_profile(path)

    def save_profile(self, path: Path) -> None:
        """Write the bench's motor as a profile."""
        try:
            save_profile(make_profile(self.document.bench), path)
        except Refusal as refusal:
            self.refuse(refusal)

    def _ask_open_profile(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Start from a profile", str(self.document.base), "Motor profiles (*.motor.json);;All files (*)"
        )
        if path:
            self.open_profile(Path(path))

    def open_profile(self, path: Path) -> None:
        """Show what a profile would change, and take over what is chosen."""
        try:
            profile = load_profile(path)
            found = differences(self.document.bench, profile)
            if not found:
                raise Refusal(f"the profile {profile.name} holds what this bench already has")
            dialog = ProfileDialog(self, profile, found)
            if dialog.exec():
                fresh = take_over(self.document.bench, profile, dialog.chosen(), now())
                self.document.edit(f"take over {profile.name}", fresh)
        except Refusal as refusal:
            self.refuse(refusal)


def pole_pairs_caption(bench: Bench) -> str:
    """Return the dial's caption: electrical turns to one of the shaft."""
    try:
        pairs = pole_pairs_of(bench.settings.plate)
    except Refusal:
        return ""
    return f"{pairs} electrical turn{'s' if pairs != 1 else ''} to one of the shaft"
