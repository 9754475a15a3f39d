"""What a record holds, once: sections of texts, tables and captures. HTML and PDF only lay it out."""

from __future__ import annotations

import math
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from crisp_compass import __version__
from crisp_compass.bench.base import Quantity
from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.readings import entry_text
from crisp_compass.bench.records import Evidence, HallRecord
from crisp_compass.bench.rules import need, stale_inputs
from crisp_compass.bench.settings.command import CommandSettings
from crisp_compass.conversions import RPM_PER_RAD_S
from crisp_compass.course.captures import Evaluated, read_again
from crisp_compass.course.channels import channels_text
from crisp_compass.course.course import waypoints_of
from crisp_compass.course.open_points import open_points, stale_effect
from crisp_compass.course.position import moves
from crisp_compass.course.sensorless import by_injection, firmware_of, settled_rows, without_sensor
from crisp_compass.course.waypoints import BY_KEY, KINDS, WAYPOINTS
from crisp_compass.drive.command_scale import SOURCES, judge_points, scale_of
from crisp_compass.drive.command_scale import findings_of as command_findings
from crisp_compass.drive.commissioning import plan
from crisp_compass.drive.display import display_of
from crisp_compass.drive.display import findings_of as display_findings
from crisp_compass.errors import Refusal
from crisp_compass.motor import constants_of
from crisp_compass.preparation.checks import judge_all
from crisp_compass.preparation.interference import judge_spikes
from crisp_compass.preparation.sensor_cable import identify_cable
from crisp_compass.preparation.terminals import FUNCTIONS, broken_wire, truth_table
from crisp_compass.preparation.terminals import findings_of as terminal_findings
from crisp_compass.preparation.wiring import COLOURS, consequence, leads_of
from crisp_compass.quantities import grouped, show, show_with_error
from crisp_compass.record.handed import handed_settings
from crisp_compass.sensorless.start import as_table
from crisp_compass.studies.failed_start import CAUSES
from crisp_compass.studies.failed_start import SYMPTOMS as START_SYMPTOMS
from crisp_compass.studies.lead_orders import SEEN
from crisp_compass.views.designs import loop_drawn
from crisp_compass.views.picture import Pane

#: Widths of the columns of settled values: all groups stand on one grid.
_SETTLED = (0.24, 0.16, 0.22, 0.38)
Tone = Literal["", "soft", "caution", "stop"]
#: How hall codes and angles are meant, for the record and for every export.
HALL_CONVENTION = (
    "code = 4*hall_1 + 2*hall_2 + hall_3; electrical degrees, 0 where the rotor's flux lies along phase A, rising A-B-C; "
    "from: angle at which the code appears turning A-B-C, to: turning A-C-B; drive: pair for torque A-B-C"
)
#: The cautions that belong to first runs; the record repeats them where somebody will act on it.
CAUTIONS = (
    "Clamp the motor and uncouple its load for first runs; keep people and loose things clear of the shaft.",
    "Set the bench supply's current limit before enabling, and have an emergency stop within reach.",
    "Capacitors hold charge after power-off; never pull a motor or encoder lead under power.",
    "Hoists and vertical axes: block the load mechanically. Braking pumps the bus; batteries have a charge limit.",
    "Mains wiring, lifting equipment, vehicles and machine guarding follow local codes and qualified people; this record does not replace them.",
)


@dataclass(frozen=True)
class Text:
    """A paragraph, or an item of a list; ``tone`` says how it is to be read."""

    text: str
    tone: Tone = ""
    item: bool = False


@dataclass(frozen=True)
class Table:
    """A table as printed; ``swatches`` holds a colour for each row's first cell where there is one, ``warning`` what must not be
    overlooked beside it, ``shares`` the widths of its columns (by their content if empty), ``strong`` the column that is set bold."""

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    note: str = ""
    swatches: tuple[str, ...] = ()
    warning: str = ""
    shares: tuple[float, ...] = ()
    strong: int = 0


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


@dataclass(frozen=True)
class Drawing:
    """What is drawn of a design, with its words."""

    title: str
    text: str
    panes: tuple[Pane, ...]


Block = Text | Table | Exhibit | Drawing


@dataclass(frozen=True)
class Section:
    """A heading and what stands under it."""

    title: str
    blocks: tuple[Block, ...]


def title_of(bench: Bench) -> str:
    """Return the record's title: names of bench and motor."""
    motor = bench.settings.plate.motor
    return f"{bench.name} · {motor}" if motor else bench.name


def content_of(bench: Bench, base: Path, when: str, picked: Collection[str] = ()) -> list[Section]:
    """Return the record's content; arguments as for ``record.report.write_report``. A section without content is left out."""
    intro = (
        f"Bench record, written {when} by Crisp Compass {__version__}. Motor constants {constants_of(bench)}; "
        "currents are phase peaks; error bars are 95 % intervals."
    )
    halls = bench.settled["commutation"].halls if "commutation" in bench.settled else None
    found = (
        Section("", (Text(intro, "soft"), *((Text(bench.notes),) if bench.notes else ()))),
        _open(bench), _settled(bench), _designs(bench), _firmware(bench), _halls(halls) if halls else None, _checks(bench), _commissioning(bench), _wiring(bench), _terminals(bench), _command(bench), _display(bench), _cable(bench),
        _interference(bench), _lead_orders(bench), _gain_trials(bench), _speed_trials(bench), _points(bench), _start(bench), _failed_starts(bench), _captures(bench, base, picked), _ledger(bench),
        Section("Before power is applied", tuple(Text(c, item=True) for c in CAUTIONS)),
    )  # fmt: skip
    return [s for s in found if s is not None]


def _open(bench: Bench) -> Section | None:
    points = open_points(bench)
    if not points:
        return None
    return Section(
        "Open points", tuple(Text(f.text, "stop" if f.level == "stop" else "caution", item=True) for f in points)
    )


def _settled(bench: Bench) -> Section:
    if not bench.settled:
        return Section("Settled values", (Text("Nothing is settled yet."),))
    return Section("Settled values", tuple(_group(bench, topic) for topic in bench.settled))


def _group(bench: Bench, topic: str) -> Table:
    settled = bench.settled[topic]
    rows = [(n.replace("_", " "), *_figures(q), "") for n, q in settled.values.items()]
    reason = f"{settled.reason} ({settled.when[:16].replace('T', ' ')})"
    if settled.origin == "data-sheet":
        reason = f"Stated, not measured: {reason}"
    if rows:
        rows[0] = (*rows[0][:3], reason)
    else:
        rows = [("", "", "", reason)]
    stale = f"Stale. {stale_effect(bench, topic)}" if stale_inputs(bench, topic) else ""
    return Table(
        (BY_KEY[topic].name, "value", "error bar", "reason"), tuple(rows), warning=stale, shares=_SETTLED, strong=1
    )


def _designs(bench: Bench) -> Section | None:
    """Return the loops as they are settled; one whose gains are not what its design gives now is not drawn."""
    told = standing(bench)
    blocks: list[Block] = []
    for key, gain in (("current_loop", "kp_q"), ("speed_loop", "kp")):
        settled = bench.settled.get(key)
        if settled is None or gain not in settled.values or key not in {w.key for w in waypoints_of(bench)}:
            continue
        try:
            kp, text, panes = loop_drawn(told, key)
        except Refusal as refusal:
            blocks.append(Text(f"{BY_KEY[key].name} is not drawn: {refusal.sentence}", "caution"))
            continue
        if math.isclose(kp, settled.values[gain].value, rel_tol=1e-6):
            blocks.append(Drawing(BY_KEY[key].name, text, panes))
        else:
            blocks.append(Text(f"{BY_KEY[key].name} is not drawn: the design gives other gains than the settled ones with what stands now.", "caution"))
    return Section("Loops as settled", tuple(blocks)) if blocks else None


def _firmware(bench: Bench) -> Section | None:
    """Return what the firmware is set with beside settled values, and what only the simulation has."""
    if not bench.settled:
        return None
    try:
        handed = handed_settings(bench)
    except Refusal as refusal:
        return Section("Settings of the firmware", (Text(refusal.sentence, "stop"),))
    rows = [(BY_KEY[h.topic].name if h.topic in BY_KEY else h.topic, h.name.replace("_", " "), show(h.value, h.unit, 4), h.text) for h in handed]
    c, b, t = bench.settings.coupling, bench.settings.bus, bench.settings.heat
    here = [
        ("resonance", c.resonance_hz, "Hz"), ("load's share of the inertia", c.load_share, ""), ("play of the coupling", c.backlash or None, "rad"), ("link capacitor", b.capacitance, "farad"),
        ("swing of the load over the angle", bench.settings.run.swing or None, "N·m"),
        ("winding to housing", t.to_housing, "K/W"), ("housing to air", t.to_air, "K/W"), ("winding's time constant", t.winding_time, "s"), ("motor's time constant", t.housing_time, "s"),
    ]  # fmt: skip
    rows += [("simulation only", name, show(value, unit, 4), "the firmware knows nothing of it") for name, value, unit in here if value is not None]
    if because := bench.settings.limits.because.strip():
        rows.append(("Run", "limit above its reason", "–", because))
    return Section("Settings of the firmware", (Table(("leg", "setting", "value", "what it is"), tuple(rows), shares=_SETTLED),)) if rows else None


def _figures(quantity: Quantity) -> tuple[str, str]:
    interval = quantity.interval95
    if interval and interval[0] != interval[1]:
        return show_with_error(quantity.value, (interval[1] - interval[0]) / 2, quantity.unit)
    return show(quantity.value, quantity.unit, 4), ""


def _halls(halls: HallRecord) -> Section:
    rows = tuple(
        (code, f"{s.from_deg:.1f}°", f"{s.center_deg:.1f}°", f"{s.to_deg:.1f}°", s.drive)
        for code, s in halls.states.items()
    )
    errors = ", ".join(f"{e:+.1f}°" for e in halls.edge_errors_deg)
    note = f"Edge errors from the best even grid: {errors}. Conventions: {HALL_CONVENTION}."
    head = ("code (4·hall_1 + 2·hall_2 + hall_3)", "from", "centre", "to", "pair A → B → C")
    return Section("Hall table", (Table(head, rows, note),))


def _captures(bench: Bench, base: Path, picked: Collection[str]) -> Section:
    bench = standing(bench)
    found = tuple(_exhibit(bench, e, base, picked) for w in WAYPOINTS for e in bench.evidence.get(w.key, ()))
    return Section("Evidence", found or (Text("No captures are kept on this bench."),))


def _exhibit(bench: Bench, evidence: Evidence, base: Path, picked: Collection[str]) -> Exhibit:
    kind = KINDS[evidence.kind]
    title = BY_KEY[kind.topic].name + kind.title
    problem, evaluated = "", None
    try:
        evaluated = read_again(bench, evidence, base, picked)
    except Refusal as refusal:
        problem = refusal.sentence
    findings = tuple(f.text for f in evidence.findings)
    return Exhibit(title, evidence.file, evidence.sha256, f"{evidence.method}. {channels_text(evidence)}".rstrip(". ") if evidence.columns else evidence.method, findings=findings, problem=problem, evaluated=evaluated)


def _ledger(bench: Bench) -> Section | None:
    rows = tuple((e.when[:16].replace("T", " "), e.kind, entry_text(e)) for e in bench.ledger)
    return Section("Ledger", (Table(("when", "kind", "entry"), rows),)) if rows else None


def _lead_orders(bench: Bench) -> Section | None:
    """Return what was seen with the leads in each order that was tried."""
    rows = []
    for order, trial in bench.trials.items():
        for way, symptom, current, speed in (
            ("forward", trial.forward, trial.current_forward, trial.speed_forward),
            ("reverse", trial.backward, trial.current_backward, trial.speed_backward),
        ):
            if symptom or current is not None:
                drawn = "–" if current is None else show(current, "A")
                turned = "–" if speed is None else f"{grouped(speed * RPM_PER_RAD_S)} rpm"
                rows.append((order, way, SEEN[symptom], drawn, turned))
    head = ("leads", "commanded", "seen", "supply current", "speed")
    return Section("Lead orders tried", (Table(head, tuple(rows)),)) if rows else None


def _gain_trials(bench: Bench) -> Section | None:
    """Return the gains tried on the current loop, with what was measured of each."""
    rows = []
    for k, trial in enumerate(bench.current_trials, 1):
        figures = (
            "–" if trial.overshoot is None else f"{100 * trial.overshoot:.0f} %",
            "–" if trial.rise is None else show(trial.rise, "s"),
            "none" if trial.ringing == 0 else "–" if trial.ringing is None else show(trial.ringing, "Hz"),
        )
        current = "–" if trial.current is None else show(trial.current, "A")
        by = "found by the drive" if trial.automatic else "by hand"
        rows.append((str(k), show(trial.kp, "V/A"), show(trial.ki, "V/(A·s)"), current, *figures, by))
    head = ("trial", "Kp", "Ki", "test current", "overshoot", "rise", "ringing", "gains")
    note = "Overshoot, rise and ringing are measured where a step was captured; other trials are simulated in the program."
    return Section("Gains tried", (Table(head, tuple(rows), note),)) if rows else None


def _points(bench: Bench) -> Section | None:
    """Return the table of points, as far as this bench moves to places."""
    if not bench.points or not moves(bench):
        return None
    turn = 2 * math.pi
    rows = [
        (
            str(k), f"{p.target / turn:.6g} turns", "by" if p.way == "by" else "to", "as settled" if p.speed is None else f"{grouped(p.speed * RPM_PER_RAD_S)} rpm",
            "as settled" if p.accel is None else show(p.accel, "rad/s²", 3), show(p.dwell, "s", 3) if p.dwell else "–", "the row below" if p.follows is None else "the end" if p.follows == 0 else str(p.follows),
            "–" if p.torque is None else show(p.torque, "N·m", 3), "–" if p.branch is None else f"input {p.branch[0]}: {p.branch[1] or 'the end'}",
        )
        for k, p in enumerate(bench.points, 1)
    ]  # fmt: skip
    return Section("Points", (Table(("row", "target", "", "speed", "acceleration", "dwell", "next", "torque limit", "branch"), tuple(rows), "Of the motor's shaft."),))


def _speed_trials(bench: Bench) -> Section | None:
    """Return the gains tried on the speed loop, with what was measured of each."""
    rows = [
        (
            str(k), show(t.kp, "A/(rad/s)"), show(t.ki, "A/rad"), "–" if t.step is None else f"{grouped(t.step * RPM_PER_RAD_S)} rpm",
            "–" if t.overshoot is None else f"{100 * t.overshoot:.0f} %", "–" if t.rise is None else show(t.rise, "s"), "found by the drive" if t.automatic else "by hand",
        )
        for k, t in enumerate(bench.speed_trials, 1)
    ]  # fmt: skip
    head = ("trial", "Kp", "Ki", "step", "overshoot", "rise", "gains")
    return Section("Gains tried on the speed", (Table(head, tuple(rows), "Figures are measured where a step was captured."),)) if rows else None


def _start(bench: Bench) -> Section | None:
    """Return the rows of the settled start without a sensor."""
    if "start_up" not in bench.settled or not without_sensor(bench):
        return None
    try:
        rows = settled_rows(bench)
    except Refusal:  # what it rests on is not settled any more; the open points say so
        return None
    if by_injection(standing(bench)):
        return _injected_start(bench)
    cells = tuple(
        (f"{i:.4g} A", f"{grouped(rpm)} rpm", show(span, "s"), f"{end:.3g} s", "on" if on else "off")
        for i, rpm, span, end, on in as_table(rows)
    )
    head = ("current, peak", "speed at its end", "duration", "running time", "estimator")
    return Section("Start sequence", (Table(head, cells),))


def _injected_start(bench: Bench) -> Section | None:
    """Return what is injected where the settled start does without rows."""
    try:
        _, _, j = firmware_of(standing(bench))
    except Refusal:
        return None
    rpm = RPM_PER_RAD_S / need(bench, "plate.pole_pairs")
    rows = (
        ("injected along d", f"±{show(j.volts, 'V')} each period"), ("followed with", show(j.natural / (2 * math.pi), "Hz")),
        ("axis counts after", show(j.settle, "s")), ("pole told by", f"±{show(j.pole_current, 'A')} peak, {show(j.pole_time, 's')} each"),
        ("injection alone up to", f"{grouped(j.fades * rpm)} rpm"), ("back-EMF alone from", f"{grouped(j.gone * rpm)} rpm"),
    )  # fmt: skip
    return Section("Start by injection", (Table(("what", "figure"), rows),))


def _failed_starts(bench: Bench) -> Section | None:
    """Return the starts that failed, with what had been changed before each."""
    changes = {c.key: c.change for c in CAUSES}
    rows = tuple(
        (t.when[:16].replace("T", " "), changes.get(t.changed, "–"), START_SYMPTOMS[t.symptom])
        for t in bench.start_trials
    )
    return Section("Starts that failed", (Table(("when", "changed before", "seen"), rows),)) if rows else None


def _checks(bench: Bench) -> Section | None:
    judged = judge_all(bench)
    if all(j.verdict == "open" for j in judged):
        return None
    rows = []
    for j in judged:
        reason = "not done" if j.verdict == "open" else j.reason
        if j.record and j.record.values:
            units = {f.name: f.unit for f in j.check.fields}
            reason += f" ({', '.join(show(v, units[k]) for k, v in j.record.values.items())})"
        rows.append((j.check.title, j.verdict, reason, j.record.when[:16].replace("T", " ") if j.record else ""))
    return Section("Checks before power", (Table(("check", "verdict", "reason and readings", "when"), tuple(rows)),))


def _commissioning(bench: Bench) -> Section | None:
    """Return what was done of putting the drive into service, what was skipped and why."""
    records = bench.commissioning
    if not any(r.done or r.skipped for r in records.values()):
        return None
    rows = tuple(
        (t.name, "done" if records[t.key].done else "skipped" if records[t.key].skipped else "open", records[t.key].skipped or records[t.key].read, records[t.key].when[:16].replace("T", " "))
        if t.key in records else (t.name, "open", "", "")
        for t in plan(bench, None)
    )  # fmt: skip
    return Section("Putting the drive into service", (Table(("step", "state", "reason, or what was read", "when"), rows),))


def _wiring(bench: Bench) -> Section | None:
    if not bench.leads:
        return None
    rows = tuple(
        (lead.name, COLOURS[lead.colour][0] if lead.colour else "–", lead.pin or "–", lead.terminal or "–")
        for lead in leads_of(bench)
    )
    swatches = tuple(COLOURS[lead.colour][1] if lead.colour else "" for lead in leads_of(bench))
    return Section(
        "Wiring", (Table(("lead", "colour", "pin", "terminal"), rows, " ".join(consequence(bench).texts), swatches),)
    )


def _terminals(bench: Bench) -> Section | None:
    """Return the drive's terminals, what its inputs do, and the drives on its link."""
    s = bench.settings.terminals
    tables = []
    if s.rows:
        rows = tuple((r.terminal, r.to or "–", f"{r.wire:g} mm²" if r.wire else "–", r.lug or "–", f"{r.torque:g} N·m" if r.torque else "–", r.note) for r in s.rows)
        tables.append(Table(("terminal", "goes to", "wire", "lug", "torque", "note"), rows, " ".join(f.text for f in terminal_findings(bench))))
    if s.inputs:
        inputs = tuple((i.terminal, FUNCTIONS[i.function], i.active, broken_wire(i)[0]) for i in s.inputs)
        tables.append(Table(("input", "function", "given by", "a broken wire"), inputs))
        tables.append(Table((*(i.terminal for i in s.inputs), "the shaft"), tuple((*(level or "either" for level in r.levels), r.does) for r in truth_table(s.inputs))))
    if s.axes:
        tables.append(Table(("drive on the link", "address", "terminated"), tuple((x.name, str(x.address), "yes" if x.terminated else "no") for x in s.axes)))
    return Section("Terminals of the drive", tuple(tables)) if tables else None


def _command(bench: Bench) -> Section | None:
    """Return how the drive is told its speed, and points that were read, where anybody said how."""
    s = bench.settings.command
    if s == CommandSettings():
        return None
    try:
        scale = scale_of(bench)
    except Refusal:
        return None  # it has no span: nothing to hold on to
    ends = ((scale.low, scale.slow), (scale.high, scale.fast))
    rows = [("source", SOURCES[s.source]), *((scale.shown(x), f"{grouped(w * RPM_PER_RAD_S)} rpm") for x, w in ends), ("ramp", f"{s.ramp_time:g} s"), ("enable", "anew after power" if s.enable == "edge" else "by level")]
    if s.dead_band:
        rows.append(("dead band", f"{100 * s.dead_band:g} % of the span"))
    if s.safe_speed is not None:
        rows.append(("safe speed of the machine", f"{grouped(s.safe_speed * RPM_PER_RAD_S)} rpm"))
    blocks = [Table(("command", "asks for"), tuple(rows), " ".join(f.text for f in command_findings(bench, scale)))]
    if s.points:
        judged = judge_points(scale, [(p.command, p.speed) for p in s.points])
        read = tuple((scale.shown(p.command), f"{grouped(scale.speed(p.command) * RPM_PER_RAD_S)} rpm", f"{grouped(p.speed * RPM_PER_RAD_S)} rpm") for p in s.points)
        blocks.append(Table(("command", "asks for", "read"), read, judged.text))
    return Section("Command", tuple(blocks))


def _display(bench: Bench) -> Section | None:
    """Return what the drive's display shows, where trims stood, and ramps."""
    s, blocks = bench.settings.display, []
    if s.shows is not None:
        display, top = display_of(bench), bench.settings.plate.top_speed
        rows = (("top speed", f"{grouped(top * RPM_PER_RAD_S)} rpm is {display.shown(top)}"), ("counts for rpm", f"{display.ratio.numerator}/{display.ratio.denominator}"))
        blocks.append(Table(("display", "shows"), rows))
    if s.trims:
        blocks.append(Table(("trim", "found at", "neutral at", "stands"), tuple((t.name, t.found or "–", t.neutral or "–", t.stands) for t in s.trims)))
    if s.ramps:
        blocks.append(Table(("ramp", "seconds"), tuple((r.where, f"{r.seconds:g}") for r in s.ramps), " ".join(f.text for f in display_findings(bench) if f.code == "nested")))
    return Section("Display, trims and ramps", tuple(blocks)) if blocks else None


def _cable(bench: Bench) -> Section | None:
    if not bench.cable:
        return None
    answer = identify_cable(bench.cable)
    rows = tuple((w.name, w.role or " or ".join(w.roles), "; ".join(w.reasons)) for w in answer.wires)
    note = " ".join(x for x in ("" if answer.complete else f"Not finished. {answer.next_reading}", answer.doubtful) if x)
    return Section("Sensor cable", (Table(("wire", "it is", "because"), rows, note),))


def _interference(bench: Bench) -> Section | None:
    found = judge_spikes(bench)
    if found.before is None:
        return None
    rows = [("before", show(found.before.peak, "V"), "", _load(found.before.loaded))]
    for e in found.effects:
        change = f"{'−' if e.reduction >= 0 else '+'}{abs(100 * e.reduction):.0f} %, {e.decibel:.1f} dB".replace(
            "-", "−"
        )
        rows.append(
            (e.remedy, show(e.peak, "V"), change if e.comparable else f"{change} (not comparable)", _load(e.loaded))
        )
    return Section("Interference", (Table(("changed", "peak", "against the reading before", "load"), tuple(rows)),))


def _load(loaded: bool) -> str:
    return "connected" if loaded else "not connected"
