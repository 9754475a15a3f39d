"""Fonts, colours and style sheet; one theme object that everything painted asks."""

from __future__ import annotations

from collections.abc import Iterable
from importlib.resources import as_file, files

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette, QPen
from PySide6.QtWidgets import QApplication, QWidget

from crisp_compass.app.tokens import TOKENS

FAMILY, MONO = "IBM Plex Sans", "IBM Plex Mono"
DASHES = {"A": Qt.PenStyle.SolidLine, "B": Qt.PenStyle.DashLine, "C": Qt.PenStyle.DotLine}
PHASE_TOKENS = {"A": "deep", "B": "ochre", "C": "moss"}


def load_fonts() -> None:
    """Register the shipped fonts, text and mono, with the application."""
    for name in ("Sans-Regular", "Sans-Bold", "Sans-Italic", "Mono-Regular"):
        with as_file(files("crisp_compass.app") / "assets" / "fonts" / f"IBMPlex{name}.ttf") as path:
            QFontDatabase.addApplicationFont(str(path))


def font(pixels: int = 13, *, bold: bool = False) -> QFont:
    """Return the application's font at a size in pixels."""
    result = QFont(FAMILY)
    result.setPixelSize(pixels)
    result.setBold(bold)
    return result


class Theme(QObject):
    """The current set of colours; ``changed`` tells painters to paint anew."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.name = "light"

    def color(self, token: str) -> QColor:
        """Return a token's colour."""
        return QColor(TOKENS[self.name][token])

    def pen(self, token: str, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
        """Return a cosmetic pen in a token's colour."""
        pen = QPen(self.color(token), width, style)
        pen.setCosmetic(True)
        return pen

    def use(self, name: str) -> None:
        """Switch to ``light`` or ``night``."""
        self.name = name if name in TOKENS else "light"
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.setPalette(self._palette())
            if not application.styleSheet():
                application.setStyleSheet(self.style_sheet())
        self.changed.emit()

    def dress(self, widget: QWidget, *, but: Iterable[QWidget] = ()) -> None:
        """Give a widget and all in it the colours of now, except what lies in ``but``.

        The style sheet names roles of the palette and never changes: setting another one would polish every widget of every
        page anew, hidden ones too, which takes seconds. Qt keeps what it made of a role until a widget is polished again.
        """
        left_out = set(but)
        waiting = [widget]
        while waiting:
            one = waiting.pop()
            if one in left_out:
                continue
            style = one.style()
            style.unpolish(one)
            style.polish(one)
            one.update()
            waiting += [c for c in one.children() if isinstance(c, QWidget)]

    def _palette(self) -> QPalette:
        palette = QPalette()
        for role, token in _ROLES.items():
            palette.setColor(role, self.color(token))
        roles = {
            QPalette.ColorRole.Window: "paper", QPalette.ColorRole.WindowText: "ink", QPalette.ColorRole.Base: "sheet",
            QPalette.ColorRole.Text: "ink", QPalette.ColorRole.Button: "sheet", QPalette.ColorRole.ButtonText: "ink",
            QPalette.ColorRole.Highlight: "deep", QPalette.ColorRole.HighlightedText: "sheet",
            QPalette.ColorRole.PlaceholderText: "soft", QPalette.ColorRole.ToolTipBase: "sheet", QPalette.ColorRole.ToolTipText: "ink",
            QPalette.ColorRole.AlternateBase: "paper", QPalette.ColorRole.Mid: "line",
        }  # fmt: skip
        for role, token in roles.items():
            palette.setColor(role, self.color(token))
        palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.ButtonText, self.color("soft"))
        palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.Text, self.color("soft"))
        return palette

    def style_sheet(self) -> str:
        """Return the style sheet of the whole application."""
        named = {token: f"palette({_WORDS[role]})" for role, token in _ROLES.items()}
        return _SHEET.format(**named, family=FAMILY, mono=MONO)


_ROLE = QPalette.ColorRole
#: The role of the palette that stands for each token in the style sheet; Fusion paints with none of the latter ones here.
_ROLES = {
    _ROLE.Window: "paper", _ROLE.WindowText: "ink", _ROLE.Base: "sheet", _ROLE.Mid: "line", _ROLE.PlaceholderText: "soft", _ROLE.Highlight: "deep",
    _ROLE.Midlight: "water", _ROLE.Link: "magenta", _ROLE.LinkVisited: "ochre", _ROLE.BrightText: "brick", _ROLE.Shadow: "moss",
}  # fmt: skip
_WORDS = {
    _ROLE.Window: "window", _ROLE.WindowText: "window-text", _ROLE.Base: "base", _ROLE.Mid: "mid", _ROLE.PlaceholderText: "placeholder-text",
    _ROLE.Highlight: "highlight", _ROLE.Midlight: "midlight", _ROLE.Link: "link", _ROLE.LinkVisited: "link-visited",
    _ROLE.BrightText: "bright-text", _ROLE.Shadow: "shadow",
}  # fmt: skip
THEME = Theme()

_SHEET = """
* {{ font-family: "{family}"; font-size: 13px; }}
QMainWindow, QDialog {{ background: {paper}; }}
QToolTip {{ background: {sheet}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
QMenuBar {{ background: {sheet}; color: {ink}; border-bottom: 1px solid {line}; }}
QMenuBar::item {{ padding: 3px 10px; background: transparent; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {water}; color: {ink}; }}
QMenu {{ background: {sheet}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
QMenu::item {{ padding: 5px 24px 5px 14px; }}
QMenu::item:disabled {{ color: {soft}; }}
QMenu::separator {{ height: 1px; background: {line}; margin: 4px 8px; }}
QLabel#question {{ color: {soft}; font-size: 14px; }}
QLabel#answer {{ color: {ink}; font-size: 34px; font-weight: bold; }}
QLabel#doubt {{ color: {ink}; font-size: 14px; }}
QLabel#reason {{ color: {soft}; font-size: 12px; }}
QLabel#stale {{ color: {ochre}; font-size: 12px; }}
QLabel#label {{ color: {soft}; font-size: 12px; }}
QLabel#unit {{ color: {soft}; font-size: 12px; }}
QLabel#heading {{ color: {soft}; font-weight: bold; }}
QLabel#caution {{ color: {ochre}; font-size: 12px; }}
QLabel#stop {{ color: {brick}; font-size: 12px; font-weight: bold; }}
QLabel#info {{ color: {soft}; font-size: 12px; }}
QFrame#field {{ background: {sheet}; border: 1px solid {line}; border-radius: 3px; }}
QFrame#field:hover {{ border-color: {soft}; }}
QFrame#field[focused="true"] {{ border: 2px solid {deep}; }}
QFrame#field[wrong="true"] {{ border: 2px solid {brick}; }}
QFrame#field[presumed="true"] {{ border-style: dashed; border-color: {soft}; }}
QFrame#field[presumed="true"] QLineEdit {{ color: {soft}; font-style: italic; }}
QFrame#field QLineEdit {{ border: none; background: transparent; color: {ink}; font-size: 15px; }}
QFrame#field QComboBox {{ border: none; background: transparent; color: {ink}; font-size: 13px; padding-left: 4px; }}
QComboBox#plain {{ background: {sheet}; border: 1px solid {line}; border-radius: 3px; color: {ink}; padding-left: 4px; }}
QComboBox#plain:focus {{ border: 2px solid {deep}; padding-left: 3px; }}
QComboBox#plain QLineEdit {{ border: none; padding: 0; }}
QComboBox QAbstractItemView {{ background: {sheet}; color: {ink}; selection-background-color: {water}; selection-color: {ink}; border: 1px solid {line}; }}
QComboBox::drop-down {{ border: none; width: 0; }}
QLineEdit, QTextEdit, QPlainTextEdit {{ background: {sheet}; color: {ink}; border: 1px solid {line}; border-radius: 3px; padding: 4px; selection-background-color: {deep}; selection-color: {sheet}; }}
QLineEdit:focus, QTextEdit:focus, QPlainTextEdit:focus {{ border: 2px solid {deep}; padding: 3px; }}
QPushButton {{ background: {sheet}; color: {ink}; border: 1px solid {line}; border-radius: 3px; padding: 7px 14px; }}
QPushButton:hover {{ border-color: {soft}; }}
QPushButton:focus {{ border: 2px solid {deep}; padding: 6px 13px; }}
QPushButton:disabled {{ color: {soft}; }}
QPushButton#main {{ background: {ink}; color: {sheet}; border: 1px solid {ink}; font-weight: bold; }}
QPushButton#main:focus {{ border: 2px solid {magenta}; }}
QPushButton#main:disabled {{ background: {line}; border-color: {line}; color: {soft}; }}
QPushButton#section {{ background: transparent; color: {soft}; border: none; border-bottom: 2px solid transparent; border-radius: 0; padding: 2px 7px; font-size: 12px; }}
QPushButton#section:hover {{ color: {ink}; }}
QPushButton#section:focus {{ border: 1px dotted {soft}; border-bottom: 2px solid transparent; padding: 1px 6px 2px 6px; }}
QPushButton#section:checked {{ color: {ink}; font-weight: bold; border-bottom: 2px solid {magenta}; }}
QPushButton#more {{ background: transparent; border: none; color: {deep}; padding: 0; font-size: 12px; text-align: left; }}
QPushButton#more:focus {{ border: 1px dotted {deep}; }}
QPushButton#small {{ padding: 4px 9px; font-size: 12px; }}
QPushButton#small:focus {{ padding: 3px 8px; }}
QLabel#passed {{ color: {moss}; font-size: 12px; }}
QLabel#title {{ color: {ink}; font-size: 13px; font-weight: bold; }}
QLabel#figure {{ color: {ink}; font-size: 13px; font-weight: bold; }}
QScrollArea#sheet {{ background: {sheet}; border: none; }}
QPushButton#fault {{ background: {brick}; color: {sheet}; border: 1px solid {brick}; font-weight: bold; }}
QFrame#panel {{ background: {sheet}; border-left: 1px solid {line}; }}
QFrame#bearing {{ background: {sheet}; border-top: 1px solid {line}; }}
QFrame#busy {{ background: {sheet}; border-top: 1px solid {line}; }}
QScrollArea#body, QWidget#body {{ background: transparent; border: none; }}
QFrame#notice {{ background: {sheet}; border: 1px solid {brick}; border-left: 4px solid {brick}; }}
QFrame#notice QLabel {{ color: {brick}; }}
QFrame#notice[kind="news"] {{ border-color: {deep}; }}
QFrame#notice[kind="news"] QLabel {{ color: {ink}; }}
QFrame#sheet {{ background: {sheet}; }}
QTableWidget {{ background: {sheet}; color: {ink}; border: none; gridline-color: transparent; selection-background-color: {water}; selection-color: {ink}; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {line}; min-height: 24px; border-radius: 4px; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; }}
QScrollBar::handle:horizontal {{ background: {line}; min-width: 24px; border-radius: 4px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QTextBrowser#guide {{ border: none; padding: 0; }}
QTextBrowser#guide:focus {{ border: none; padding: 0; }}
QTreeWidget#finder {{ background: {sheet}; color: {ink}; border: 1px solid {line}; selection-background-color: {water}; selection-color: {ink}; }}
QTreeWidget#finder::item {{ padding: 3px 2px; }}
QPlainTextEdit#code {{ font-family: "{mono}"; font-size: 12px; }}
QCheckBox {{ color: {ink}; }}
QRadioButton {{ color: {ink}; padding: 3px; }}
QRadioButton::indicator {{ width: 11px; height: 11px; border: 1px solid {soft}; border-radius: 6px; background: {sheet}; }}
QRadioButton::indicator:checked {{ background: {deep}; border: 1px solid {deep}; }}
QRadioButton:focus {{ border: 1px dotted {deep}; padding: 2px; }}
QStatusBar {{ background: {sheet}; color: {soft}; border-top: 1px solid {line}; font-size: 12px; }}
QStatusBar::item {{ border: none; }}
QStatusBar QLabel {{ color: {soft}; font-size: 12px; }}
QHeaderView::section {{ background: {paper}; color: {soft}; border: none; padding: 4px; font-size: 12px; }}
"""
