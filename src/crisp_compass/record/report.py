"""The record as one HTML file with its figures inside."""

from __future__ import annotations

import io
from collections.abc import Callable, Collection
from pathlib import Path

from jinja2 import Environment, PackageLoader, select_autoescape
from matplotlib import rc_context
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure

from crisp_compass.bench.models import Bench
from crisp_compass.record.content import Drawing, Exhibit, Table, Text, content_of, title_of
from crisp_compass.record.figures import draw, draw_panes


def write_report(bench: Bench, base: Path, when: str, picked: Collection[str] = ()) -> str:
    """Return the record as HTML.

    Parameters
    ----------
    bench
        What to record.
    base
        Folder of the bench file; captures are read again from there and checked against their SHA-256.
    when
        Time of writing, as text.
    picked
        Absolute paths of captures outside ``base`` that the person chose; others are not read.
    """
    environment = Environment(
        loader=PackageLoader("crisp_compass.record"),
        autoescape=select_autoescape(["html"]),
        trim_blocks=True,
        lstrip_blocks=True,
    )
    kinds = {"is_text": Text, "is_table": Table, "is_exhibit": Exhibit, "is_drawing": Drawing}
    for name, kind in kinds.items():
        environment.tests[name] = lambda block, k=kind: isinstance(block, k)
    return environment.get_template("record.html").render(
        name=bench.name, title=title_of(bench), sections=content_of(bench, base, when, picked), picture=_picture
    )


def _picture(block: Exhibit | Drawing) -> str:
    if isinstance(block, Drawing):
        return _svg(lambda figure: draw_panes(figure, block.panes))
    shown = block.evaluated
    return _svg(lambda figure: draw(figure, shown)) if shown is not None else ""


def _svg(paint: Callable[[Figure], None]) -> str:
    with rc_context({"svg.fonttype": "path", "svg.hashsalt": "crisp-compass", "font.size": 9}):
        figure = Figure(figsize=(8.2, 3.0), layout="constrained")
        FigureCanvasSVG(figure)
        paint(figure)
        out = io.StringIO()
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    return text[text.index("<svg") :]
