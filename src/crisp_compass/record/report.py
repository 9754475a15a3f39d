"""The record: one HTML file with plots inside, readable anywhere and without the program."""

from __future__ import annotations

import io
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from jinja2 import Environment, PackageLoader, select_autoescape
from matplotlib import rc_context
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure, FigureBase

from crisp_compass import __version__
from crisp_compass.bench.base import Quantity, Topic
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.readings import entry_text
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.course.captures import Evaluated, read_again
from crisp_compass.course.open_points import open_points, stale_effect
from crisp_compass.course.waypoints import BY_KEY, KINDS, WAYPOINTS
from crisp_compass.errors import Refusal
from crisp_compass.quantities import show, show_with_error
from crisp_compass.record import figures
from crisp_compass.record.c_commutation import HALL_CONVENTION
from crisp_compass.record.tables import tables_of

#: The cautions that belong to first runs; the record repeats them where somebody will act on it.
CAUTIONS = (
    "Clamp the motor and uncouple its load for first runs; keep people and loose things clear of the shaft.",
    "Set the bench supply's current limit before enabling, and have an emergency stop within reach.",
    "Capacitors hold charge after power-off; never pull a motor or encoder lead under power.",
    "Hoists and vertical axes: block the load mechanically. Braking pumps the bus; batteries have a charge limit.",
    "Mains wiring, lifting equipment, vehicles and machine guarding follow local codes and qualified people; this record does not replace them.",
)


@dataclass(frozen=True)
class Row:
    """One settled value as printed."""

    name: str
    value: str
    doubt: str
    reason: str
    when: str
    stale: str


@dataclass(frozen=True)
class Exhibit:
    """One piece of evidence; ``evaluated`` is None where ``problem`` says why there is no plot."""

    title: str
    file: str
    sha: str
    method: str
    findings: tuple[str, ...]
    problem: str
    evaluated: Evaluated | None

    @property
    def svg(self) -> str:
        """The plot as SVG text, empty without one."""
        return _svg(self.evaluated) if self.evaluated else ""


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
    halls = bench.settled["commutation"].halls if "commutation" in bench.settled else None
    return environment.get_template("record.html").render(
        bench=bench, when=when, version=__version__, groups=settled_rows(bench), exhibits=exhibits_of(bench, base, picked), halls=halls, hall_convention=HALL_CONVENTION, tables=tables_of(bench), cautions=CAUTIONS,
        findings=open_points(bench), entry_text=entry_text,
    )  # fmt: skip


def settled_rows(bench: Bench) -> dict[str, list[Row]]:
    """Return every settled value as printed, by the leg's name."""
    return {
        BY_KEY[topic].name: [_row(bench, topic, n, q) for n, q in s.values.items()]
        for topic, s in bench.settled.items()
    }


def exhibits_of(bench: Bench, base: Path, picked: Collection[str] = ()) -> list[Exhibit]:
    """Read every capture again and return it with its result, or with what is wrong with it."""
    bench = standing(bench)
    return [_exhibit(bench, e, base, picked) for w in WAYPOINTS for e in bench.evidence.get(w.key, ())]


def _row(bench: Bench, topic: Topic, name: str, quantity: Quantity) -> Row:
    settled = bench.settled[topic]
    shown, doubt = show(quantity.value, quantity.unit, 4), ""
    if quantity.interval95 and quantity.interval95[0] != quantity.interval95[1]:
        shown, doubt = show_with_error(
            quantity.value, (quantity.interval95[1] - quantity.interval95[0]) / 2, quantity.unit
        )
    stale = stale_effect(bench, topic) if stale_inputs(bench, topic) else ""
    return Row(name.replace("_", " "), shown, doubt, settled.reason, settled.when[:16].replace("T", " "), stale)


def _exhibit(bench: Bench, evidence: Evidence, base: Path, picked: Collection[str]) -> Exhibit:
    kind = KINDS[evidence.kind]
    title = BY_KEY[kind.topic].name + kind.title
    problem, evaluated = "", None
    try:
        evaluated = read_again(bench, evidence, base, picked)
    except Refusal as refusal:
        problem = refusal.sentence
    findings = tuple(f.text for f in evidence.findings)
    return Exhibit(title, evidence.file, evidence.sha256, evidence.method, findings, problem, evaluated)


def draw(figure: FigureBase, evaluated: Evaluated) -> None:
    """Draw the evidence's plots into a figure."""
    figures.FIGURES[evaluated.kind.key](figure, evaluated.result)


def _svg(evaluated: Evaluated) -> str:
    with rc_context({"svg.fonttype": "path", "svg.hashsalt": "crisp-compass", "font.size": 9}):
        figure = Figure(figsize=(8.2, 3.0), layout="constrained")
        FigureCanvasSVG(figure)
        draw(figure, evaluated)
        out = io.StringIO()
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    return text[text.index("<svg") :]
