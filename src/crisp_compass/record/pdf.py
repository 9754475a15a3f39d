"""The record as PDF: the same content as the HTML record, laid out on A4 pages by Matplotlib."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path

from matplotlib import rc_context
from matplotlib.backends.backend_pdf import PdfPages
from matplotlib.figure import Figure

from crisp_compass import __version__
from crisp_compass.bench.models import Bench
from crisp_compass.bench.readings import entry_text
from crisp_compass.course.open_points import open_points
from crisp_compass.estimates import Finding
from crisp_compass.record.report import CAUTIONS, Exhibit, Row, draw, exhibits_of, settled_rows
from crisp_compass.record.tables import tables_of

_SIZE = (8.27, 11.69)  # A4, inch
_LEFT, _TOP, _BOTTOM, _LINE = 0.09, 0.93, 0.07, 0.0165
_INK, _SOFT, _OCHRE, _PAPER = "#16293D", "#5A666E", "#8A5C0E", "#FFFFFF"

#: One printed line: columns of (x, text, bold, colour), and how many lines high it is.
Line = tuple[list[tuple[float, str, bool, str]], int]


def write_pdf(bench: Bench, base: Path, when: str, picked: Collection[str] = ()) -> bytes:
    """Return the record as PDF; arguments as for :func:`crisp_compass.record.report.write_report`."""
    out = io.BytesIO()
    with (
        rc_context({"pdf.fonttype": 42, "font.size": 9}),
        PdfPages(out, metadata={"Title": f"{bench.name}, bench record"}) as pages,
    ):
        _text_pages(pages, [*_front(bench, when), *_tables(bench)])
        for exhibit in exhibits_of(bench, base, picked):
            _exhibit_page(pages, exhibit)
        _text_pages(pages, _back(bench))
    return out.getvalue()


def _heading(text: str) -> Line:
    return [(_LEFT, text, True, _INK)], 2


def _wrapped(text: str, *, x: float = _LEFT, width: int = 100, colour: str = _INK) -> Iterator[Line]:
    for part in textwrap.wrap(text, width) or [""]:
        yield [(x, part, False, colour)], 1


def _front(bench: Bench, when: str) -> Iterator[Line]:
    motor = bench.settings.plate.motor
    yield [(_LEFT, f"{bench.name} · {motor}" if motor else bench.name, True, _INK)], 2
    intro = f"Bench record, written {when} by Crisp Compass {__version__}. Constants per phase of the star equivalent; currents are phase peaks; error bars are 95 % intervals."
    yield from _wrapped(intro, colour=_SOFT)
    yield from _wrapped(bench.notes)
    points = open_points(bench)
    if points:
        yield _heading("Open points")
        for finding in points:
            yield from _wrapped(_finding_text(finding), colour=_OCHRE)
    for group, rows in settled_rows(bench).items():
        yield _heading(group)
        yield from _group(rows)
    halls = bench.settled["commutation"].halls if "commutation" in bench.settled else None
    if halls is not None:
        yield _heading("Hall table: code, from, centre, to, forward pair")
        for code, s in halls.states.items():
            cells = (code, f"{s.from_deg:.1f}°", f"{s.center_deg:.1f}°", f"{s.to_deg:.1f}°", s.drive)
            yield [(_LEFT + 0.12 * k, text, k == 0, _INK) for k, text in enumerate(cells)], 1


def _tables(bench: Bench) -> Iterator[Line]:
    """Lay each table out: the first cell, then the others joined and wrapped below each other."""
    for table in tables_of(bench):
        yield _heading(table.title)
        for row in table.rows:
            name, rest = textwrap.wrap(row[0], 26) or [""], textwrap.wrap("  ·  ".join(c for c in row[1:] if c), 74)
            for k in range(max(len(name), len(rest))):
                cells = [(_LEFT, name[k], True, _INK)] if k < len(name) else []
                cells += [(0.34, rest[k], False, _INK)] if k < len(rest) else []
                yield cells, 1
        if table.note:
            yield from _wrapped(table.note, colour=_SOFT)


def _finding_text(finding: Finding) -> str:
    return f"{finding.level.capitalize()}: {finding.text}"


def _group(rows: list[Row]) -> Iterator[Line]:
    for row in rows:
        yield [(_LEFT, row.name, False, _INK), (0.3, row.value, True, _INK), (0.5, row.doubt, False, _INK)], 1
    if rows:
        yield from _wrapped(f"{rows[0].reason} ({rows[0].when})", colour=_SOFT)
        if rows[0].stale:
            yield from _wrapped(f"Stale. {rows[0].stale}", colour=_OCHRE)


def _back(bench: Bench) -> Iterator[Line]:
    yield _heading("Ledger")
    for entry in bench.ledger:
        first, *others = textwrap.wrap(entry_text(entry), 78) or [""]
        yield (
            [
                (_LEFT, entry.when[:16].replace("T", " "), False, _SOFT),
                (0.26, entry.kind, True, _INK),
                (0.36, first, False, _INK),
            ],
            1,
        )
        for more in others:
            yield [(0.36, more, False, _INK)], 1
    yield _heading("Before power is applied")
    for caution in CAUTIONS:
        yield from _wrapped(f"– {caution}")


def _text_pages(pages: PdfPages, lines: Iterable[Line]) -> None:
    figure, y = _page(), _TOP
    for columns, height in lines:
        if y - height * _LINE < _BOTTOM:
            _save(pages, figure)
            figure, y = _page(), _TOP
        y -= height * _LINE
        for x, text, bold, colour in columns:
            figure.text(x, y, text, weight="bold" if bold else "normal", color=colour, parse_math=False)
    _save(pages, figure)


def _save(pages: PdfPages, figure: Figure) -> None:
    pages.savefig(figure)  # type: ignore[no-untyped-call]


def _page() -> Figure:
    return Figure(figsize=_SIZE, facecolor=_PAPER)


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
        for x, text, bold, colour in columns:
            figure.text(x, y, text, weight="bold" if bold else "normal", color=colour, parse_math=False)
    if exhibit.evaluated is not None:
        draw(figure, exhibit.evaluated)
        figure.subplots_adjust(left=0.12, right=0.95, bottom=y - 0.38, top=y - 0.06, wspace=0.34)
    _save(pages, figure)
