"""The record as PDF: the same content as the HTML record, laid out on A4 pages by Matplotlib."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

from matplotlib import rc_context, rcParams
from matplotlib.artist import Artist
from matplotlib.backend_bases import RendererBase
from matplotlib.backends.backend_pdf import PdfPages
from matplotlib.colors import to_rgba
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties

from crisp_compass.bench.models import Bench
from crisp_compass.record.content import Drawing, Exhibit, Table, Text, content_of, title_of
from crisp_compass.record.figures import draw, draw_panes
from crisp_compass.record.glyphs import families_for, printable

_SIZE = (8.27, 11.69)  # A4, inch
_LEFT, _TOP, _BOTTOM, _LINE = 0.09, 0.93, 0.07, 0.0165
_INK, _SOFT, _OCHRE, _PAPER = "#16293D", "#5A666E", "#8A5C0E", "#FFFFFF"
_TONES = {"": _INK, "soft": _SOFT, "caution": _OCHRE, "stop": _OCHRE}
#: Width of a table on the page, and how many characters stand in it.
_WIDTH, _COLUMNS = 0.84, 108

#: One printed line: columns of (x, text, bold, colour), and how many lines high it is.
Line = tuple[list[tuple[float, str, bool, str]], int]


def write_pdf(bench: Bench, base: Path, when: str, picked: Collection[str] = ()) -> bytes:
    """Return the record as PDF; arguments as for :func:`crisp_compass.record.report.write_report`."""
    out = io.BytesIO()
    # glyphs as procedures: as searchable as an embedded part of the font, which takes half of all the time to cut out
    families = families_for("".join([bench.name, bench.notes, bench.settings.plate.motor, *(e.text for e in bench.ledger)]))
    with (
        rc_context({"pdf.fonttype": 3, "font.size": 9, "font.family": families}),
        PdfPages(out, metadata={"Title": f"{bench.name}, bench record"}) as pages,
    ):
        lines: list[Line] = [([(_LEFT, title_of(bench), True, _INK)], 2)]
        for section in content_of(bench, base, when, picked):
            drawings = [b for b in section.blocks if isinstance(b, Drawing)]
            if drawings:  # together on one page
                _text_pages(pages, lines)
                _drawn_page(pages, section.title, drawings)
                lines = []
            elif section.title:
                lines.append(_heading(section.title))
            for block in section.blocks:
                if isinstance(block, Drawing):
                    continue
                if isinstance(block, Exhibit):  # a page of its own
                    _text_pages(pages, lines)
                    _exhibit_page(pages, block)
                    lines = []
                else:
                    lines += _text(block) if isinstance(block, Text) else _table(block)
        _text_pages(pages, lines)
    return out.getvalue()


def _heading(text: str) -> Line:
    return [(_LEFT, text, True, _INK)], 2


def _wrapped(text: str, *, x: float = _LEFT, width: int = 100, colour: str = _INK) -> Iterator[Line]:
    for part in textwrap.wrap(text, width) or [""]:
        yield [(x, part, False, colour)], 1


def _text(block: Text) -> Iterator[Line]:
    yield from _wrapped(f"– {block.text}" if block.item else block.text, colour=_TONES[block.tone])


def _table(table: Table) -> Iterator[Line]:
    """Lay a table out: columns side by side, each as wide as its longest cell asks of what there is; cells wrap."""
    lengths = [max(len(row[k]) for row in (table.head, *table.rows)) for k in range(len(table.head))]
    wide = [min(n, 40) + 2 for n in lengths]
    shares = table.shares or tuple(w / sum(wide) for w in wide)
    for bold, row in ((True, table.head), *((False, r) for r in table.rows)):
        cells = [
            textwrap.wrap(text, max(int(_COLUMNS * s) - 1, 4)) or [""] for text, s in zip(row, shares, strict=True)
        ]
        for k in range(max(len(c) for c in cells)):
            x, columns = _LEFT, []
            for n, (cell, share) in enumerate(zip(cells, shares, strict=True)):
                if k < len(cell) and cell[k]:
                    columns.append((x, cell[k], bold or n == table.strong, _SOFT if bold else _INK))
                x += share * _WIDTH
            yield columns, 1
    if table.warning:
        yield from _wrapped(table.warning, colour=_OCHRE)
    if table.note:
        yield from _wrapped(table.note, colour=_SOFT)
    yield [], 1


def _text_pages(pages: PdfPages, lines: Sequence[Line]) -> None:
    if not lines:
        return
    figure, y = _page(), _TOP
    for columns, height in lines:
        if y - height * _LINE < _BOTTOM:
            _save(pages, figure)
            figure, y = _page(), _TOP
        y -= height * _LINE
        _print(figure, y, columns)
    _save(pages, figure)


def _print(figure: Figure, y: float, columns: Sequence[tuple[float, str, bool, str]]) -> None:
    for x, text, bold, colour in columns:
        figure.add_artist(_Print(x, y, printable(text, list(rcParams["font.family"])), bold=bold, colour=colour))


class _Print(Artist):
    """One line of text at a place of the page; drawn without being measured first, which takes as long as drawing it."""

    def __init__(self, x: float, y: float, text: str, *, bold: bool, colour: str) -> None:
        super().__init__()
        self._at, self._text, self._colour = (x, y), text, to_rgba(colour)
        self._font = FontProperties(weight="bold" if bold else "normal")

    def draw(self, renderer: RendererBase) -> None:
        figure = self.get_figure(root=True)
        if figure is None or not self._text.strip():
            return
        gc = renderer.new_gc()
        gc.set_foreground(self._colour, isRGBA=True)
        x, y = (share * size for share, size in zip(self._at, (figure.bbox.width, figure.bbox.height), strict=True))
        y = figure.bbox.height - y if renderer.flipy() else y
        renderer.draw_text(gc, x, y, self._text, self._font, 0.0, ismath=False)
        gc.restore()


def _save(pages: PdfPages, figure: Figure) -> None:
    pages.savefig(figure)  # type: ignore[no-untyped-call]


def _page() -> Figure:
    return Figure(figsize=_SIZE, facecolor=_PAPER)


def _drawn_page(pages: PdfPages, title: str, drawings: Sequence[Drawing]) -> None:
    """Draw designs one below the other, each under its words."""
    figure, y = _page(), _TOP
    _print(figure, y, _heading(title)[0])
    for drawing in drawings:
        y -= 2.5 * _LINE
        for columns, height in [([(_LEFT, drawing.title, True, _INK)], 1.4), *_wrapped(drawing.text)]:
            _print(figure, y, columns)
            y -= height * _LINE
        draw_panes(figure, drawing.panes, {"left": 0.12, "right": 0.95, "bottom": y - 0.24, "top": y, "wspace": 0.42})
        y -= 0.28
    _save(pages, figure)


def _exhibit_page(pages: PdfPages, exhibit: Exhibit) -> None:
    figure = _page()
    y = _TOP
    for columns, height in [
        ([(_LEFT, exhibit.title, True, _INK)], 2),
        *_wrapped(exhibit.method),
        *(line for text in (exhibit.problem, *exhibit.findings) if text for line in _wrapped(text, colour=_OCHRE)),
        *_wrapped(f"{exhibit.file}, SHA-256 {exhibit.sha}", colour=_SOFT),
    ]:
        y -= height * _LINE
        _print(figure, y, columns)
    if exhibit.evaluated is not None:
        draw(figure, exhibit.evaluated)
        figure.subplots_adjust(left=0.12, right=0.95, bottom=y - 0.38, top=y - 0.06, wspace=0.34)
    _save(pages, figure)
