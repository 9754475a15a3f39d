"""Settings: number fields that take engineering notation, step with wheel and arrow keys and show their unit."""

from __future__ import annotations

import math

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent, QWheelEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from crisp_compass.app.widgets.line import Line
from crisp_compass.app.widgets.parts import frame, label, unmarked
from crisp_compass.errors import Refusal
from crisp_compass.quantities import editable, from_si, plain, show, to_si, unit_label
from crisp_compass.typed import Motor, equivalents, read


class _Framed(QWidget):
    """Label above, framed field below, 52 px high in all; compact ones, for rows with a heading, have no label."""

    def __init__(self, title: str, width: int, *, compact: bool = False) -> None:
        super().__init__()
        self.setFixedWidth(width)
        self._label = label(title, "label")
        if compact:  # never show it here: without a parent it would be a window for a moment
            self._label.hide()
        self._frame = frame("field")
        self._frame.setFixedHeight(32)
        self._inside = QHBoxLayout(self._frame)
        self._inside.setContentsMargins(6, 0, 8, 0)
        self._inside.setSpacing(4)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        column.addWidget(self._label)
        column.addWidget(self._frame)

    def set_title(self, title: str) -> None:
        """Name the field anew."""
        self._label.setText(title)
        self._entry().setAccessibleName(title)

    def _entry(self) -> QWidget:
        """Return the part that takes the focus."""
        raise NotImplementedError

    def set_group(self, name: str) -> None:
        """Say to screen readers what this field belongs to, where others of the page have the same label."""
        self._entry().setAccessibleName(f"{name}: {self._label.text()}")

    def _mark(self, name: str, on: bool) -> None:
        if bool(self._frame.property(name)) == on:
            return
        self._frame.setProperty(name, on)
        self._frame.style().unpolish(self._frame)
        self._frame.style().polish(self._frame)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.FocusIn:
            self._mark("focused", True)
        elif event.type() == QEvent.Type.FocusOut:
            self._mark("focused", False)
        return super().eventFilter(watched, event)


class NumberField(_Framed):
    """A number. ``moved`` carries the new SI value once it is entered (Enter, Tab, leaving the field), wheeled or stepped.

    An ``optional`` number may be emptied; ``moved`` then carries NaN. What is refused, or escaped from, restores what stood.
    ``refused`` carries a sentence; ``mended`` says that its cause is gone.
    """

    moved = Signal(float)
    refused = Signal(str)
    mended = Signal()

    def __init__(
        self,
        title: str,
        unit: str,
        *,
        width: int = 126,
        whole: bool = False,
        plain: bool = False,
        tip: str = "",
        optional: bool = False,
        compact: bool = False,
        hint: str = "",
        between: tuple[float, float] | None = None,
        base: str = "",
        reading: bool = False,
        kind: str = "",
    ) -> None:
        super().__init__(title, width, compact=compact)
        self._kind = kind  # what else may be typed, see ``typed.read``
        self.motor = Motor()
        self._optional, self._reading = optional, reading  # a reading may be taken again with the same figure
        self._between = between  # SI, for values that no model checks
        self._unit, self._whole, self._plain = unit, whole, plain or whole
        self.base = base  # ``peak`` or ``rms`` where the figure is one of these
        self._value: float | None = None
        self._presumed = False
        self._was_refused = False
        self.edit = Line()
        self.edit.setAccessibleName(title)
        self.edit.setPlaceholderText(hint or (title if compact else ""))
        self.edit.installEventFilter(self)
        self.edit.textEdited.connect(self._on_text)
        self.edit.editingFinished.connect(self._on_finished)
        self.suffix = label(unit_label(unit), "unit")
        if unit:
            self.edit.setAlignment(Qt.AlignmentFlag.AlignRight)
            self._inside.setSpacing(2)
        self._inside.addWidget(self.edit, 1)
        self._inside.addWidget(self.suffix)
        self._label.setBuddy(self.edit)
        if tip:
            self.setToolTip(tip)

    @property
    def value(self) -> float | None:
        """Current SI value; None while empty."""
        return self._value

    def show_value(self, value: float | None) -> None:
        """Show an SI value without telling anyone; a field in use keeps its text."""
        if value == self._value and self.edit.text():
            return
        self._value = value
        self._mark("wrong", False)
        self.edit.setToolTip("")
        if not (self.edit.hasFocus() and self.edit.isModified()):
            self._print()
        else:
            self._describe()

    def show_presumed(self, presumed: bool) -> None:
        """Show whether the value is only presumed: nobody has entered or confirmed it."""
        if presumed == self._presumed:
            return
        self._presumed = presumed
        self._mark("presumed", presumed)
        for widget in (self.edit, self.suffix):
            widget.style().unpolish(widget)
            widget.style().polish(widget)
        self._describe()

    def _describe(self) -> None:
        """Tell screen readers the figure with its unit, and whether it is presumed."""
        shown = "empty" if self._value is None else show(self._value, self._unit, 6)
        words = f"{shown}, {self.base}" if self.base and self._value is not None else shown
        self.edit.setAccessibleDescription(f"{words}, presumed: Enter confirms it" if self._presumed else words)
        also = equivalents(self._value, self._unit, self.motor) if self._value is not None else ""
        said = ["Presumed: nobody has entered it. Enter confirms it."] if self._presumed else []
        self._frame.setToolTip(" ".join([*said, *([f"{show(self._value, self._unit, 4)}: {also}."] if also else [])]))

    def know(self, motor: Motor) -> None:
        """Learn of the motor what this field may be typed and said in."""
        if motor != self.motor:
            self.motor = motor
            self._describe()

    def _entry(self) -> QWidget:
        return self.edit

    def _print(self) -> None:
        if self._value is None:
            self.edit.clear()
        elif self._plain:
            shown = from_si(self._value, self._unit)
            self.edit.setText(plain(shown) if not self._whole else f"{round(shown)}")
        else:
            # the prefix stands with the number, so that the unit beside the field never changes under the hand
            self.edit.setText(editable(self._value, self._unit))
        self.edit.setModified(False)
        self._describe()

    def _read(self) -> float:
        """Parse the text; a bare number is in the unit that stands beside the field."""
        value = read(self.edit.text(), self._unit, base=self.base, kind=self._kind, motor=self.motor)
        if self._between is not None and not self._between[0] <= value <= self._between[1]:
            low, high = (show(x, self._unit) for x in self._between)
            raise Refusal(f"{show(value, self._unit)} is not possible here", f"{low} to {high} is")
        if self._whole and from_si(value, self._unit) != round(from_si(value, self._unit)):
            raise Refusal("a whole number is needed")
        return value

    def _on_text(self) -> None:
        """Mark what could not be entered while it is typed; nothing is told to anyone yet."""
        if self._was_refused:
            self._was_refused = False
            self.mended.emit()
        problem = ""
        if not (self._optional and not self.edit.text().strip()):
            try:
                self._read()
            except Refusal as refusal:
                problem = refusal.sentence
        self._mark("wrong", bool(problem))
        self.edit.setToolTip(unmarked(problem))

    def _on_finished(self) -> None:
        if not self.edit.isModified():
            return
        self._mark("wrong", False)
        self.edit.setToolTip("")
        if self._optional and not self.edit.text().strip():
            self._value = None
            self._print()
            self.moved.emit(math.nan)
            return
        try:
            value = self._read()
        except Refusal as refusal:
            self._print()
            self._was_refused = True
            self.refused.emit(f"{self._label.text()}: {refusal.sentence}")
            return
        changed = value != self._value or self._presumed or self._reading
        self._value = value
        self._print()
        if changed:
            self.moved.emit(value)

    def restore(self) -> None:
        """Show what stands, whatever is being typed."""
        self._print()
        self._mark("wrong", False)
        self.edit.setToolTip("")

    def commit(self) -> None:
        """Enter what is being typed, as leaving the field would."""
        self._on_finished()

    def step(self, up: bool, *, coarse: bool = False) -> None:
        """Move by one engineering step: the second digit, or 1-2-5 when coarse."""
        if self._value is None:
            return
        shown = from_si(self._value, self._unit)
        fresh = _step(shown, up, coarse, self._whole)
        self._value = to_si(fresh, self._unit)
        self._print()
        self.moved.emit(self._value)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.edit and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            coarse = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                self.step(event.key() == Qt.Key.Key_Up, coarse=coarse)
                return True
            if event.key() == Qt.Key.Key_Escape and self.edit.isModified():
                self.restore()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._presumed and not self.edit.isModified():
                if self._value is not None:
                    self.moved.emit(self._value)
                return True
        if watched is self.edit and isinstance(event, QWheelEvent):
            return self._wheel(event)
        return super().eventFilter(watched, event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._wheel(event)

    def _wheel(self, event: QWheelEvent) -> bool:
        """Step a field in use; elsewhere the wheel is the page's, which may scroll."""
        if not self.edit.hasFocus():
            event.ignore()
            return True
        coarse = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.step(event.angleDelta().y() + event.angleDelta().x() > 0, coarse=coarse)
        event.accept()
        return True


def _step(value: float, up: bool, coarse: bool, whole: bool) -> float:
    """Return the next value: a step in the second significant digit, or the next of 1-2-5."""
    if value == 0:
        return (1.0 if whole else 0.1) * (1 if up else -1)
    size, sign = abs(value), math.copysign(1.0, value)
    grow = up == (sign > 0)
    decade = 10.0 ** math.floor(math.log10(size) + 1e-9)
    if coarse:
        ladder = [m * decade for m in (0.5, 1, 2, 5, 10, 20)]
        options = [x for x in ladder if (x > size * 1.0001 if grow else x < size * 0.9999)]
        return sign * (min(options) if grow else max(options))
    unit = decade / 10
    if not grow and size - unit < decade * 0.999999:
        unit = decade / 100
    if whole:
        unit = max(1.0, round(unit))
    return round(sign * (round(size / unit) + (1 if grow else -1)) * unit, 12)


class Choice(_Framed):
    """One of several; ``moved`` carries the key chosen by the person."""

    moved = Signal(str)

    def __init__(
        self, title: str, options: dict[str, str], *, width: int = 150, tip: str = "", compact: bool = False
    ) -> None:
        super().__init__(title, width, compact=compact)
        self.box = QComboBox()
        self.box.setAccessibleName(title)
        for key, text in options.items():
            self.box.addItem(text, key)
        self.box.installEventFilter(self)
        self.box.activated.connect(lambda i: self.moved.emit(self.box.itemData(i)))
        self._inside.setContentsMargins(0, 0, 4, 0)
        arrow = label("▾", "unit")
        arrow.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._inside.addWidget(self.box, 1)
        self._inside.addWidget(arrow)
        self._label.setBuddy(self.box)
        if tip:
            self.setToolTip(tip)

    def _entry(self) -> QWidget:
        return self.box

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QWheelEvent) and not self.box.hasFocus():
            event.ignore()
            return True
        return super().eventFilter(watched, event)

    def show_presumed(self, presumed: bool) -> None:
        """Show whether the choice is only presumed."""
        self._mark("presumed", presumed)
        self.box.setAccessibleDescription("presumed" if presumed else "")

    def show_value(self, key: str) -> None:
        """Show a choice without telling anyone."""
        index = max(self.box.findData(key), 0)
        if index != self.box.currentIndex():
            self.box.setCurrentIndex(index)

    def set_options(self, options: dict[str, str], key: str) -> None:
        """Offer other options and show one, without telling anyone."""
        current = {self.box.itemData(i): self.box.itemText(i) for i in range(self.box.count())}
        if current != options:
            self.box.clear()
            for data, text in options.items():
                self.box.addItem(text, data)
        self.show_value(key)
