"""Drive, parameters: does the drive hold what the bench has settled?"""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QPushButton, QTableWidgetItem

from crisp_compass.app.autosave import now
from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.document import Document
from crisp_compass.app.page.base import Page
from crisp_compass.app.waypoints.drive.snapshots import Snapshots
from crisp_compass.app.widgets.flow import FlowRow
from crisp_compass.app.widgets.parts import label
from crisp_compass.app.widgets.table import Cell, Table
from crisp_compass.drive.compare import Row, compare_with
from crisp_compass.drive.dcf import save_dcf
from crisp_compass.drive.description import Entry, limits, within
from crisp_compass.drive.masks import as_hex, in_all_forms, is_mask, names_of, parse_mask
from crisp_compass.drive.profile import differing, load_profile, load_snapshot, save_profile
from crisp_compass.drive.writing import Written
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import UNITS, parse, show, to_si

#: The column that is typed into.
_NEW = 3


class ParametersPage(Page):
    """Every parameter: in the drive, on the bench, to be written; written values are read back."""

    key = "drive"
    section = "Parameters"
    question = "Does the drive hold what the bench has settled?"
    has_dial = False
    arranges_fields = True

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.session = document.drive
        self._new: dict[str, float] = {}
        self._shown: list[Entry] = []
        self.table = Table("Parameters of the drive", ("Parameter", "In the drive", "On the bench", "To write", "Factory", "What it is"), widths={0: 140, 1: 124, 2: 124, 3: 124, 4: 124})  # fmt: skip
        self.table.itemChanged.connect(self._on_typed)
        self.column.addWidget(self.table, 1)
        self.search = QLineEdit()
        self.search.setPlaceholderText("search")
        self.search.setAccessibleName("Search parameters")
        self.search.setMaximumWidth(200)
        self.search.textChanged.connect(lambda _: self.show_document())
        self.different = QCheckBox("only what differs")
        self.different.toggled.connect(lambda _: self.show_document())
        self.read = QPushButton("Read again")
        self.read.clicked.connect(lambda: self.attempt(self.session.read_parameters))
        self.take = QPushButton("Take the bench's values")
        self.take.setToolTip("Put what the bench has settled and the drive holds otherwise into the column To write")
        self.take.clicked.connect(self._on_take)
        self.back = QPushButton("Put back")
        self.back.setToolTip("Put what the drive held before this window wrote into the column To write")
        self.back.clicked.connect(self._on_back)
        self.factory = QPushButton("Factory values")
        self.factory.setToolTip("Put what the drive's maker set into the column To write")
        self.factory.clicked.connect(self._on_factory)
        self.profile = QPushButton("Profile…")
        self.profile.setToolTip("Put what a profile says and the drive holds otherwise into the column To write; a snapshot is one too")
        self.profile.clicked.connect(self._on_profile)
        self.keep = QPushButton("Save profile…")
        self.keep.setToolTip("Everything the drive holds now, as a file: a snapshot to come back to, or a profile for another drive")
        self.keep.clicked.connect(self._on_keep)
        self.compare = QPushButton("Compare…")
        self.compare.setToolTip("Two snapshots side by side; no drive is needed")
        self.compare.clicked.connect(self._on_compare)
        self.restart = QPushButton("Restart the drive")
        self.restart.clicked.connect(lambda: self.attempt(lambda: self.session.talk().send("restart")))
        row = FlowRow()
        for widget in (label("Find", "info"), self.search, self.different, self.profile, self.keep, self.compare):
            row.add(widget)
        self.add_row(row)
        self.finish("Write", self.read, self.take, self.factory, self.back, self.restart)
        self.session.changed.connect(self._on_session)
        self.session.values.connect(self._on_values)
        self.session.written.connect(self._on_written)

    # ---- what is asked

    def _on_typed(self, item: QTableWidgetItem) -> None:
        if item.column() != _NEW or item.row() >= len(self._shown):
            return
        entry, text = self._shown[item.row()], item.text().strip().replace("−", "-")
        if not text:
            self._new.pop(entry.name, None)
        else:
            self.attempt(lambda: self._take_typed(entry, text))
        self.show_document()

    def _take_typed(self, entry: Entry, text: str) -> None:
        """Take what was typed, as people write it: ``980u``, ``0.41``, ``7.5 A``."""
        if is_mask(entry):
            value = parse_mask(entry, text)
        else:
            value = parse(text, entry.unit) / to_si(1.0, entry.unit) if entry.unit in UNITS else parse(text, "")
        if not within(entry, value):
            low, high = limits(entry)
            raise Refusal(f"{entry.name} = {text[:30]} is outside {_shown(entry, low)} to {_shown(entry, high)}")
        self._new[entry.name] = value

    def _on_take(self) -> None:
        for row in self._compared():
            entry = self._entry(row.name)
            if row.differs and row.settled is not None and row.held and entry is not None and entry.writable:
                self._new[row.name] = row.settled / (row.held / self.session.held[row.name])
        self.show_document()

    def _on_factory(self) -> None:
        told = self.session.description
        for entry in told.parameters if told else ():
            if entry.factory is not None and entry.writable and self.session.held.get(entry.name, entry.factory) != entry.factory:
                self._new[entry.name] = entry.factory
        self.show_document()

    def _on_profile(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Profile of a drive", str(self.document.base), "Profiles, device configurations (*.json *.dcf);;All files (*)")
        if name:
            self.take_profile(Path(name))

    def take_profile(self, path: Path) -> None:
        """Mark what a profile says otherwise than the drive; nothing is written yet."""
        told = self.session.description
        if told is None:
            return
        try:
            values, unknown = load_profile(path, told)
        except Refusal as refusal:
            self.refuse(refusal)
            return
        marked = differing(told, self.session.held, values)
        self._new |= marked
        rest = f"; the drive has no {', '.join(unknown[:3])}" if unknown else ""
        self.done.emit(f"{len(marked)} of {len(values)} values of {path.name} differ and stand under To write{rest}")
        self.show_document()

    def _on_keep(self) -> None:
        told = self.session.description
        kinds, endings = ("Profiles (*.json);;Device configurations (*.dcf)", (".json", ".dcf")) if told and told.over_can else ("Profiles (*.json)", (".json",))
        path = ask_save_path(self, "Save what the drive holds", self.document.base / "drive-profile.json", kinds, suffixes=endings) if told else None
        if told is None or path is None:
            return
        try:
            count = save_dcf(path, told, self.session.held) if path.suffix.lower() == ".dcf" else save_profile(path, told, self.session.held, now())
        except (Refusal, OSError) as error:
            self.refuse(error if isinstance(error, Refusal) else Refusal(f"{path.name} cannot be written ({error.strerror})", "choose another folder"))
            return
        self.done.emit(f"{count} values saved as {path.name}")

    def _on_compare(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Two snapshots of a drive", str(self.document.base), "Profiles (*.json);;All files (*)")
        if names:
            self.compare_snapshots([Path(n) for n in names])

    def compare_snapshots(self, paths: list[Path]) -> None:
        """Show two snapshots side by side."""
        try:
            if len(paths) != 2:
                raise Refusal(f"{len(paths)} file{'s' if len(paths) > 1 else ''} chosen", "choose two snapshots together")
            dialog = Snapshots(load_snapshot(paths[0]), load_snapshot(paths[1]), self)
        except Refusal as refusal:
            self.refuse(refusal)
            return
        dialog.exec()

    def _on_back(self) -> None:
        self._new |= {k: v for k, v in self.session.before.items() if self.session.held.get(k) != v}
        self.show_document()

    def on_main(self) -> None:
        """Write what stands in the column To write, and read it back."""
        values = [(e, v) for k, v in self._new.items() if (e := self._entry(k)) is not None]
        if values:
            self.attempt(lambda: self.session.talk().write(values))

    def _on_written(self, written: tuple[Written, ...]) -> None:
        for w in written:
            self._new.pop(w.entry.name, None)
        findings = [f for w in written for f in w.findings()]
        self._said = tuple(findings)
        self.show_document()

    # ---- what is shown

    _said: tuple[Finding, ...] = ()

    def _on_session(self) -> None:
        self._new, self._said = {}, ()
        self._on_values()

    def _on_values(self) -> None:
        if self.isVisible():
            self.show_document()

    def _entry(self, name: str) -> Entry | None:
        told = self.session.description
        return next((e for e in told.parameters if e.name == name), None) if told else None

    def _compared(self) -> tuple[Row, ...]:
        told = self.session.description
        named = [e for e in told.parameters if e.bench and e.name in self.session.held] if told else []
        return compare_with(self.document.bench, named, self.session.held).rows

    def refresh(self) -> None:
        connected, told = self.session.state == "connected", self.session.description
        for widget in (self.read, self.take, self.factory, self.back, self.restart, self.profile, self.keep):
            widget.setEnabled(connected)
        assert self.main_button is not None
        self.main_button.setEnabled(connected and bool(self._new))
        self.main_button.setText(f"Write {len(self._new)}" if self._new else "Write")
        if not connected or told is None:
            self._shown = []
            self.table.show_rows(())
            self.findings.show_findings(())
            self.answer.show_answer("Not connected", "connect to a drive first", self.session.why, stale=True)
            return
        rows = {r.name: r for r in self._compared()}
        differing = [r for r in rows.values() if r.differs]
        wanted = self.search.text().strip().lower()
        self._shown = [
            e for e in told.parameters
            if (not wanted or wanted in f"{e.name} {e.text} {e.group}".lower()) and (not self.different.isChecked() or (e.name in rows and rows[e.name].differs) or e.name in self._new)
        ]  # fmt: skip
        self.table.show_rows([self._line(e, rows.get(e.name)) for e in self._shown])
        head = f"{len(differing)} of {len(rows)} differ" if differing else f"All {len(rows)} agree" if rows else "Nothing to compare"
        rest = "from what the bench has settled" if differing else "with what the bench has settled" if rows else "no parameter names a settled value"
        first = ", ".join(r.name.replace("_", " ") for r in differing[:2]) + (f" and {len(differing) - 2} more" if len(differing) > 2 else "")
        self.answer.show_answer(head, rest, first, stale=bool(differing))
        self.findings.show_findings(self._said)

    def _line(self, entry: Entry, row: Row | None) -> list[Cell]:
        held = self.session.held.get(entry.name)
        factor = row.held / held if row is not None and row.held and held else 1.0
        settled = None if row is None or row.settled is None else row.settled / factor
        new = self._new.get(entry.name)
        differs = row is not None and row.differs
        low, high = limits(entry)
        tip = f"{entry.text or entry.name}: {_shown(entry, low)} to {_shown(entry, high)}" + ("; counts after a restart" if entry.restart else "")
        if is_mask(entry):
            tip += f". {in_all_forms(entry, held or 0.0)}. Type it in decimal, 0x…, 0b… or by the names: {', '.join((entry.bits or {}).values())}"
        what = f"{', '.join(names_of(entry, held or 0.0)) or 'none'}: {entry.text}" if is_mask(entry) else entry.text
        return [
            Cell(entry.name.replace("_", " "), tip=tip), Cell(_shown(entry, held), "ochre" if differs else "ink", bold=differs, right=True), Cell(_shown(entry, settled) if row else "", right=True),
            Cell("" if new is None else _shown(entry, new), "magenta", bold=True, editable=entry.writable, tip=tip, right=True), Cell("" if entry.factory is None else _shown(entry, entry.factory), "soft", right=True),
            Cell(f"   {what}{'; restart' if entry.restart else ''}", "soft", tip=tip),
        ]  # fmt: skip


def _shown(entry: Entry, value: float | None) -> str:
    """Return a physical value as people read it."""
    if value is None:
        return "–"
    if is_mask(entry):
        return as_hex(entry, value)
    if entry.unit in UNITS and entry.unit and UNITS[entry.unit].factor == 1.0:
        return show(value, entry.unit, 5)
    return f"{value:.6g} {entry.unit}".rstrip()
