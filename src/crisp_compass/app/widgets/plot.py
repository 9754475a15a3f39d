"""Plots: sheet ground, labels outside the data, units chosen by the axis; cursors, copy as picture, save as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import ArrayLike
from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QApplication, QGraphicsItem, QMenu, QMessageBox, QWidget

from crisp_compass.app.dialogs import ask_save_path
from crisp_compass.app.theme import FAMILY, THEME, font
from crisp_compass.app.widgets.at_load import AT_LOAD
from crisp_compass.app.widgets.legend import DASHES, Legend
from crisp_compass.app.widgets.parts import unmarked
from crisp_compass.app.widgets.pyramid import Pyramid, pyramid_of
from crisp_compass.app.widgets.strokes import Strokes
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.quantities import grouped, show

_PREFIXED = {"s", "V", "A", "H"}
#: Smooth curves of more points are thinned for drawing.
_MANY = 4000
#: Share of a value over which a moving view shows it at least: a bus that stands still looks as if it did.
_LITTLE = 0.02


class _Axis(pg.AxisItem):  # type: ignore[misc]
    """An axis that writes ``current i_a [mA]``."""

    def labelString(self) -> str:
        unit = f" [{self.labelUnitPrefix}{self.labelUnits}]" if self.labelUnits else ""
        style = ";".join(f"{k}: {v}" for k, v in self.labelStyle.items())
        return f"<span style='{style}'>{self.labelText}{unit}</span>"

    def updateAutoSIPrefix(self) -> None:
        """Scale by a prefix only where one was asked for; the library scales the ticks all the same."""
        if self.autoSIPrefix:
            super().updateAutoSIPrefix()
            return
        self.autoSIPrefixScale, self.labelUnitPrefix = 1.0, ""
        self._updateLabel()

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Set thousands off by a narrow blank, as everywhere."""
        texts = super().tickStrings(values, scale, spacing)
        return [grouped(float(t)) if t.lstrip("-").isdigit() else t.replace("-", "−") for t in texts]

    def logTickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Write 100, 1k, 10k instead of powers, and of those between only 2, 3 and 5: the others would overlap."""
        texts = [show(10.0**v, "Hz", 1).removesuffix("Hz").replace(" ", "") for v in values]
        return [t if t[:1] in "1235" else "" for t in texts]


class Plot(pg.PlotWidget):  # type: ignore[misc]
    """One plot. Curves are named; each keeps the colour token it was made with and follows the theme."""

    def __init__(
        self, x: tuple[str, str], y: tuple[str, str], *, name: str, log_x: bool = False, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent, axisItems={"bottom": _Axis("bottom"), "left": _Axis("left")}, enableMenu=False)
        self._x, self._y, self.name = x, y, name
        self._curves: dict[str, tuple[pg.PlotDataItem, dict[str, Any]]] = {}
        self._titles: dict[str, str] = {}
        self._legend = Legend()
        self.plotItem.layout.removeItem(self.plotItem.titleLabel)
        self.plotItem.titleLabel.setVisible(False)
        self.plotItem.layout.addItem(self._legend, 0, 1)
        self._lines: list[tuple[pg.InfiniteLine, str, Qt.PenStyle]] = []
        self._cursors: list[pg.InfiniteLine] = []
        self._texts: list[pg.TextItem] = []
        self._dense: set[str] = set()
        self._long: dict[str, Pyramid] = {}
        self.plotItem.getViewBox().sigXRangeChanged.connect(self._on_range)
        self._log_x = log_x
        self.setAccessibleName(f"Plot: {name}")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(160, 110)
        self.plotItem.setMenuEnabled(False)
        self.plotItem.hideButtons()
        self.plotItem.showGrid(x=True, y=True, alpha=0.35)
        if log_x:
            self.plotItem.setLogMode(x=True)
        for side in ("bottom", "left"):  # ticks and grid change seldom; curves many times a second
            self.plotItem.getAxis(side).setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)
        self._vacant, self._labelled, self._graded = False, True, True
        self._strokes = Strokes()
        self.plotItem.addItem(self._strokes, ignoreBounds=True)
        self._readout = pg.TextItem(anchor=(1, 0))
        self._readout.setZValue(50)
        THEME.changed.connect(self.restyle)
        self.restyle()
        self._note_vacancy()

    def _note_vacancy(self) -> None:
        """An empty plot has no figures at its axes: they would be of nothing."""
        vacant = not any(self._filled(key) for key in self._curves)
        if vacant != self._vacant:
            self._vacant = vacant
            for side, told in (("bottom", self._labelled), ("left", self._graded)):
                self.plotItem.getAxis(side).setStyle(showValues=told and not vacant)
            self.viewport().update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Paint; an empty plot says what will be here, over the sketch of a curve."""
        super().paintEvent(event)
        if not self._vacant:
            return
        box = self.plotItem.getViewBox().sceneBoundingRect()
        if box.width() < 60 or box.height() < 40:
            return
        painter = QPainter(self.viewport())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(THEME.pen("line", 2, Qt.PenStyle.DashLine))
        x = np.linspace(0.06, 0.94, 60)
        y = 0.16 + 0.62 * (1 - np.exp(-4 * x)) * (1 + 0.18 * np.exp(-3 * x) * np.sin(14 * x))
        painter.drawPolyline(
            QPolygonF([
                QPointF(box.left() + a * box.width(), box.bottom() - b * box.height())
                for a, b in zip(x.tolist(), y.tolist(), strict=True)
            ])
        )  # fmt: skip
        painter.setPen(THEME.color("soft"))
        painter.setFont(font(12))
        painter.drawText(box.adjusted(12, 0, -12, -8), int(Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignBottom), self.name)

    def sizeHint(self) -> QSize:
        """Ask for little: a plot takes what is left, and must not make a page scroll."""
        return QSize(300, 140)

    def close(self) -> bool:
        """Close and stop following the theme: a closed plot has no items left to colour."""
        THEME.changed.disconnect(self.restyle)
        return bool(super().close())

    def restyle(self) -> None:
        """Take the theme's colours."""
        self.setBackground(THEME.color("sheet"))
        for item in self._texts:
            item.setColor(THEME.color("soft"))
        for side, (text, unit) in (("bottom", self._x), ("left", self._y)):
            axis = self.plotItem.getAxis(side)
            axis.setPen(THEME.pen("soft"))
            axis.enableAutoSIPrefix(unit in _PREFIXED and not (self._log_x and side == "bottom"))
            axis.setTextPen(THEME.color("soft"))
            axis.setStyle(tickFont=font(11), tickTextOffset=4, tickLength=-4, maxTickLevel=1)
            axis.setLabel(
                text,
                units=unit or None,
                **{"color": THEME.color("soft").name(), "font-size": "11px", "font-family": FAMILY},
            )
        self.plotItem.getAxis("bottom").showLabel(self._labelled)
        self.plotItem.getAxis("left").setWidth(60)
        for item, style in self._curves.values():
            self._apply(item, style)
        for line, token, dash in self._lines:
            line.setPen(THEME.pen(token, 1, dash))
        self._readout.setColor(THEME.color("ink"))

    def _apply(self, item: pg.PlotDataItem, style: dict[str, Any]) -> None:
        token = style["token"]
        if style["symbol"]:
            item.setSymbol(style["symbol"])
            item.setSymbolSize(style["size"])
            item.setSymbolPen(THEME.pen(token, 1.2))
            item.setSymbolBrush(None if style["hollow"] else THEME.color(token))
            item.setPen(None)
        else:
            item.setPen(THEME.pen(token, style["width"], DASHES[style["dash"]]))

    def curve(
        self,
        key: str,
        token: str,
        *,
        width: float = 1.5,
        dash: str = "solid",
        symbol: str = "",
        size: int = 7,
        hollow: bool = False,
        dense: bool = False,
        title: str | None = None,
    ) -> None:
        """Declare a curve; ``dense`` curves keep their spikes when there are more samples than pixels.

        ``title`` is its name in the legend, its key where there is none; an empty one keeps it out.
        """
        item = pg.PlotDataItem(antialias=not dense, connect="finite")
        style = {"token": token, "width": width, "dash": dash, "symbol": symbol, "size": size, "hollow": hollow}
        self._apply(item, style)
        self.plotItem.addItem(item)
        if dense:  # after adding: the plot gives every new item its own settings
            item.setDownsampling(auto=True, method="peak")
            item.setClipToView(True)
            self._dense.add(key)
        self._curves[key] = (item, style)
        self._titles[key] = key if title is None else title

    def set_titles(self, titles: Mapping[str, str]) -> None:
        """Give curves other names in the legend."""
        self._titles.update(titles)
        self._name_curves()

    def _name_curves(self) -> None:
        """Show the names of the curves that have data."""
        self._legend.show_entries(
            tuple(
                (self._titles[k], style)
                for k, (_, style) in self._curves.items()
                if self._titles[k] and self._filled(k)
            )
        )

    def _filled(self, key: str) -> bool:
        data = self._curves[key][0].xData
        return key in self._long or key in self._strokes.lines or (data is not None and len(data) > 0)

    def declares(self, key: str) -> bool:
        """Tell whether a curve is declared."""
        return key in self._curves

    def set_name(self, name: str) -> None:
        """Give the plot another name."""
        self.name = name
        self.setAccessibleName(f"Plot: {name}")

    def set_axes(self, x: tuple[str, str], y: tuple[str, str]) -> None:
        """Give the axes other names and units."""
        if (x, y) != (self._x, self._y):
            self._x, self._y = x, y
            self.restyle()

    def set(self, key: str, x: ArrayLike, y: ArrayLike) -> None:
        """Put data into a declared curve; a dense one that is long shows the extremes of what each pixel covers."""
        xs, ys = np.asarray(x), np.asarray(y)
        self._long.pop(key, None)
        self._strokes.lines.pop(key, None)
        long = pyramid_of(xs, ys) if key in self._dense else None
        if long is not None:
            self._long[key] = long
            self._show_long(key, float(xs[0]), float(xs[-1]))
        else:
            self._thin(key, xs)
            self._curves[key][0].setData(xs, ys)
        self._name_curves()
        self._note_vacancy()

    def stream(self, key: str, x: np.ndarray, y: np.ndarray) -> None:
        """Put data into a declared curve that changes with every frame: no more points than pixels, the view set by :meth:`follow`."""
        style = self._curves[key][1]
        new = key not in self._strokes.lines
        self._strokes.set(key, x, y, style["token"], style["dash"])
        if new:
            self._long.pop(key, None)
            self._curves[key][0].setData([], [])
            self._name_curves()
            self._note_vacancy()

    def _thin(self, key: str, x: np.ndarray) -> None:
        """Draw a long smooth curve by the extremes of each pixel too: fifty thousand antialiased points hold the window up."""
        item, style = self._curves[key]
        many = len(x) > _MANY and not style["symbol"] and bool((np.diff(x) > 0).all())
        if key not in self._dense and item.opts["autoDownsample"] != many:
            item.setDownsampling(ds=1, auto=many, method="peak")

    def _show_long(self, key: str, left: float, right: float) -> None:
        self._curves[key][0].setData(*self._long[key].view(left, right))

    def _on_range(self, _: object, limits: tuple[float, float]) -> None:
        for key in self._long:
            self._show_long(key, *limits)

    def data(self, key: str) -> tuple[np.ndarray, np.ndarray]:
        """Return what a curve shows, all samples of it."""
        if key in self._long:
            return self._long[key].x, self._long[key].y
        if key in self._strokes.lines:
            return self._strokes.lines[key][:2]
        x, y = self._curves[key][0].xData, self._curves[key][0].yData
        empty = np.empty(0)
        return (empty if x is None else x), (empty if y is None else y)

    def clear_data(self) -> None:
        """Empty every curve."""
        self._long.clear()
        self._strokes.clear()
        for item, _ in self._curves.values():
            item.setData([], [])
        self._name_curves()
        self._note_vacancy()

    def rule(
        self, *, x: float | None = None, y: float | None = None, token: str = "ink", dash: str = "solid"
    ) -> pg.InfiniteLine:
        """Add a fixed line across the plot."""
        position = float(np.log10(x)) if x is not None and self._log_x else (x if x is not None else y)
        line = pg.InfiniteLine(position, angle=90 if x is not None else 0, pen=THEME.pen(token, 1, DASHES[dash]))
        self.plotItem.addItem(line, ignoreBounds=True)
        self._lines.append((line, token, DASHES[dash]))
        return line

    def write(self, texts: Sequence[tuple[float, float, str]]) -> None:
        """Write small texts at places of the plot, instead of those before."""
        for item in self._texts:
            self.plotItem.removeItem(item)
        self._texts = []
        for x, y, text in texts:
            item = pg.TextItem(text, color=THEME.color("soft"), anchor=(0.5, 0.5))
            item.setPos(x, y)
            self.plotItem.addItem(item, ignoreBounds=True)
            self._texts.append(item)

    def fit(self) -> None:
        """Show everything."""
        for key, long in self._long.items():
            self._show_long(key, float(long.x[0]), float(long.x[-1]))
        self.plotItem.enableAutoRange()
        self.plotItem.autoRange(padding=0.04)

    def follow(self, left: float, right: float, *, floor: float) -> None:
        """Show a moving window of x; y is set anew only when a curve leaves it or fills little of it.

        ``floor`` is the least span of y: ripple and noise below it are not worth the whole height.
        """
        lows, highs = [], []
        for key in self._curves:
            x, y = self.data(key)
            seen = y[(x >= left) & (x <= right) & np.isfinite(y)]
            if len(seen):
                lows.append(float(np.min(seen)))
                highs.append(float(np.max(seen)))
        box = self.plotItem.getViewBox()
        if box.viewRange()[0] != [left, right]:
            box.setXRange(left, right, padding=0)
        if not lows:
            return
        low, high = min(lows), max(highs)
        middle, span = (low + high) / 2, max(high - low, floor, _LITTLE * max(abs(low), abs(high)))
        y0, y1 = box.viewRange()[1]
        if low < y0 or high > y1 or span < 0.4 * (y1 - y0):
            box.setYRange(middle - 0.62 * span, middle + 0.62 * span, padding=0)

    def keep_in_view(self) -> None:
        """Fit only if a curve leaves the view or fills little of it; a number that moves does not make axes jump."""
        (x0, x1), (y0, y1) = self.plotItem.viewRange()
        spans = [self.data(k) for k in self._curves]
        spans = [(x, y) for x, y in spans if len(x)]
        if not spans:
            return
        lows = [min(float(np.nanmin(s[i])) for s in spans) for i in (0, 1)]
        highs = [max(float(np.nanmax(s[i])) for s in spans) for i in (0, 1)]
        if self._log_x:
            lows[0], highs[0] = float(np.log10(lows[0])), float(np.log10(highs[0]))
        inside = lows[0] >= x0 and highs[0] <= x1 and lows[1] >= y0 and highs[1] <= y1
        filled = highs[0] - lows[0] > 0.55 * (x1 - x0) and highs[1] - lows[1] > 0.55 * (y1 - y0)
        if not (inside and filled):
            x_pad, y_pad = 0.04 * (highs[0] - lows[0]), 0.12 * (highs[1] - lows[1]) or 1.0
            self.plotItem.setRange(
                xRange=(lows[0] - x_pad, highs[0] + x_pad), yRange=(lows[1] - y_pad, highs[1] + y_pad), padding=0
            )

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.fit()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        keys: dict[int, Callable[[], None]] = {Qt.Key.Key_F: self.fit, Qt.Key.Key_C: self.toggle_cursors}
        if event.key() in keys and not event.modifiers():
            keys[event.key()]()
            event.accept()
            return
        event.ignore()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        menu.addAction("Fit to data\tF", self.fit)
        menu.addAction("Hide cursors\tC" if self._cursors else "Show cursors\tC", self.toggle_cursors)
        menu.addSeparator()
        menu.addAction("Copy as picture", self.copy_picture)
        menu.addAction("Save as CSV…", self._ask_csv)
        menu.exec(event.globalPos())

    def toggle_cursors(self) -> None:
        """Show or hide two upright cursors that read differences."""
        if self._cursors:
            for line in self._cursors:
                self.plotItem.removeItem(line)
            self.plotItem.removeItem(self._readout)
            self._cursors = []
            return
        (low, high), _ = self.plotItem.viewRange()
        for part in (0.35, 0.65):
            line = pg.InfiniteLine(
                low + part * (high - low), angle=90, movable=True, pen=THEME.pen("ink", 1, Qt.PenStyle.DashLine)
            )
            line.setHoverPen(THEME.pen("magenta", 2))
            line.sigPositionChanged.connect(self._read_cursors)
            self.plotItem.addItem(line, ignoreBounds=True)
            self._cursors.append(line)
        self.plotItem.addItem(self._readout, ignoreBounds=True)
        self._read_cursors()

    def grade_y(self, *, on: bool) -> None:
        """Write figures at the upright axis, or leave them out where they are of nothing."""
        self._graded = on
        self.plotItem.getAxis("left").setStyle(showValues=on and not self._vacant)

    def label_x(self, *, on: bool) -> None:
        """Name the lower axis, or leave that to the plot below."""
        self._labelled = on
        axis = self.plotItem.getAxis("bottom")
        axis.showLabel(on)
        axis.setStyle(showValues=on and not self._vacant)

    @property
    def y_axis(self) -> tuple[str, str]:
        """Name and unit of the upright axis."""
        return self._y

    @property
    def between(self) -> tuple[float, float] | None:
        """Where the two cursors stand, None without."""
        if not self._cursors:
            return None
        a, b = sorted(float(line.value()) for line in self._cursors)
        return a, b

    def _read_cursors(self) -> None:
        a, b = sorted(line.value() for line in self._cursors)
        if self._log_x:
            a, b = 10**a, 10**b
        unit = self._x[1]
        text = f"Δ {show(b - a, unit) if unit in ('s', 'Hz', 'A', 'V') else f'{b - a:.4g} {unit}'}"
        first = next((self.data(k) for k in self._curves if len(self.data(k)[0]) > 1), None)
        if first is not None and np.all(np.diff(first[0]) >= 0):
            dy = float(np.interp(b, *first) - np.interp(a, *first))
            text += f"   Δy {dy:.4g} {self._y[1]}"
        if unit == "s" and b > a:
            text += f"   1/Δ {show(1 / (b - a), 'Hz')}"
        if unit == "rpm" and (there := AT_LOAD.told(f"{b - a:.4f} rpm")):
            text += f"   {there.partition(' = ')[2]}"
        self._readout.setText(text)
        (_, right), (_, top) = self.plotItem.viewRange()
        self._readout.setPos(right, top)

    def copy_picture(self) -> None:
        """Put a picture of the plot on the clipboard."""
        QApplication.clipboard().setPixmap(self.grab())

    def _ask_csv(self) -> None:
        path = ask_save_path(self, "Save plot data", Path(f"{self.name}.csv"), "CSV (*.csv)", suffixes=(".csv",))
        if path is None:
            return
        try:
            self.save_csv(path)
        except Refusal as refusal:
            QMessageBox.warning(self, "Not saved", unmarked(refusal.sentence))

    def save_csv(self, path: Path) -> None:
        """Write every curve as an x and a y column, base units in the header."""
        columns: dict[str, np.ndarray] = {}
        for key in self._curves:
            x, y = self.data(key)
            if len(x):
                columns[f"{key} {self._x[0]} [{self._x[1]}]"], columns[f"{key} {self._y[0]} [{self._y[1]}]"] = x, y
        out = io.StringIO(newline="")
        writer = csv.writer(out)
        writer.writerow(columns)
        for row in range(max((len(c) for c in columns.values()), default=0)):
            writer.writerow([repr(float(c[row])) if row < len(c) else "" for c in columns.values()])
        write_atomically(path, out.getvalue())


def refusal_text(refusal: Refusal) -> str:
    """Return a refusal's sentence with the path shortened to the file's name, for the screen."""
    where = Path(refusal.where).name if "/" in refusal.where else refusal.where
    where = "" if where.startswith("--") else where  # an option of the command line says nothing here
    remedy = refusal.remedy
    if "--" in remedy or "SOURCE" in remedy:  # advice for the command line
        remedy = "load it from its page and choose the channels" if refusal.code == "channels" else ""
    return Refusal(refusal.problem, remedy, where=where).sentence
