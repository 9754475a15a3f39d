"""Drive, auto-tune: did the drive's own routine really run, and is what it left to be believed?"""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton

from crisp_compass.app.document import Document
from crisp_compass.app.waypoints.drive.watched import WatchedPage
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.bench.entered import enter
from crisp_compass.bench.models import Bench
from crisp_compass.drive.conversation import Occupied
from crisp_compass.drive.hand import Hand
from crisp_compass.drive.tuning import Judged, TuneRun, judge, kinds_of, name_of, run_auto_tune
from crisp_compass.estimates import Finding
from crisp_compass.quantities import show

_CAUTION = Finding(
    "caution",
    "auto-tune-moves",
    "An auto-tune energizes the motor and may turn it, or let go of it: motor clamped, load off, a hoisted one blocked mechanically, people clear, emergency stop within reach. Follow "
    "your local rules.",
)
_KINDS = {1: "Run at standstill", 2: "Run turning"}
_HEADS = {"ran": "It ran", "did not run": "It did not run", "zero": "It found nothing", "outside": "Not to be believed", "disagrees": "Look twice"}
#: Worst first.
_RANK = ("did not run", "zero", "outside", "disagrees", "ran")
#: Bench fields that hold what the drive held before and after, by constant; of Ld and Lq the mean.
_KEPT = {"resistance": ("resistance",), "inductance": ("ld", "lq"), "flux": ("flux_linkage",)}


class AutoTunePage(WatchedPage):
    """Each constant before and after every run, per unit, beside what else is known; the verdict."""

    key = "drive"
    section = "Auto-tune"
    question = "Did the drive's own auto-tune run, and is it to be believed?"

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self._runs: list[TuneRun] = []
        self.table = Table("What the auto-tune left", ("Constant", "Before", "Runs", "Believe", "Of rated", "Known otherwise", "Verdict"), widths={0: 104, 1: 92, 2: 190, 3: 92, 4: 76, 5: 190})  # fmt: skip
        self.table.setWordWrap(True)
        self.column.addWidget(self.table, 1)
        self.buttons = {kind: QPushButton(text) for kind, text in _KINDS.items()}
        for kind, widget in self.buttons.items():
            widget.setToolTip("Arms the drive, asks for its routine, waits for its end and reads what it left")
            widget.clicked.connect(lambda _, k=kind: self.attempt(lambda: self._run(k)))
        self.finish("Keep for Side by side", *self.buttons.values(), self.stop)

    # ---- what is asked

    def _run(self, kind: int) -> None:
        self.may_move()

        def work(hand: Hand, busy: Occupied) -> None:
            busy.tell(run_auto_tune(hand, kind))

        self.session.occupy(work)
        self.began()

    def on_main(self) -> None:
        """Keep before and after on the bench: the legs show them beside plate, meter and captures."""
        if self._change(self._kept, "keep the auto-tune"):
            self.done.emit("kept: Side by side on each leg shows what the drive found")

    def _kept(self, bench: Bench) -> Bench:
        fields = {}
        first, last = self._runs[0], {c: v for run in self._runs for c, v in run.after.items()}
        for name, constants in _KEPT.items():
            for when, values in (("before", first.before), ("after", last)):
                found = [values[c] for c in constants if c in values]
                if found and all(v > 0 for v in found):
                    fields[f"{name}_{when}"] = sum(found) / len(found)
        return enter(bench, "auto_tune", fields)

    # ---- what comes back

    def take(self, told: object) -> None:
        """Take a run."""
        if isinstance(told, TuneRun):
            self._runs = [*self._runs[-4:], told]

    # ---- what is shown

    def refresh(self) -> None:
        session, told = self.session, self.session.description
        connected = session.state == "connected" and told is not None
        if not connected:
            self._runs, self.mine = [], False
        kinds = kinds_of(told) if connected and told is not None else ()
        for kind, widget in self.buttons.items():
            widget.setEnabled(kind in kinds and not session.busy)
        self.stop.setEnabled(connected)
        assert self.main_button is not None
        rows, findings = judge(self.document.bench, self._runs) if self._runs else ((), ())
        judged = [r for r in rows if r.verdict != "not tuned"]
        self.main_button.setEnabled(bool(judged) and not session.busy and all(r.verdict not in ("did not run", "zero") for r in judged))
        self.offer_stop(on=session.busy)
        self.table.show_rows([self._line(r) for r in rows])
        self.table.resizeRowsToContents()
        self.findings.show_findings((*findings, _CAUTION) if connected else ())
        if not connected:
            self.answer.show_answer("Not connected", "connect to a drive first", session.why, stale=True)
        elif session.busy:
            self.answer.show_answer("Runs", "the drive works by itself; what it held before is kept")
        elif self.why:
            self.answer.show_answer("Broke off", "nothing was taken", self.why, stale=True)
        elif not kinds:
            self.answer.show_answer("No auto-tune is named", "the description has no auto_tune and tune_state", stale=True)
        elif not judged:
            self.answer.show_answer("Not run yet", "run it, and it is judged by what it leaves, not by what it reports")
        else:
            worst = min((r.verdict for r in judged), key=_RANK.index)
            count = len(self._runs)
            self.answer.show_answer(_HEADS[worst], f"{count} run{'s' if count > 1 else ''}, {sum(r.took for r in self._runs):.0f} s", stale=worst != "ran")

    def _line(self, row: Judged) -> list[Cell]:
        colour = {"ran": "ink", "not tuned": "soft"}.get(row.verdict, "magenta")
        values = "   ".join(show(v, row.unit, 4) for v in row.values[-3:])
        name = name_of(self.document.bench, row.constant)
        return [
            Cell(name[:1].upper() + name[1:]), Cell("" if row.before is None else show(row.before, row.unit, 4), "soft", right=True), Cell(values, tip="   ".join(show(v, row.unit, 5) for v in row.values), right=True),
            Cell("" if row.believed is None else show(row.believed, row.unit, 4), bold=True, right=True), Cell(row.per_unit, "soft", right=True, tip="of the rated impedance, or of the rated voltage at rated speed"),
            Cell(f"   {row.beside}", "soft", tip=row.beside), Cell(row.verdict, colour, bold=row.verdict not in ("ran", "not tuned")),
        ]  # fmt: skip
