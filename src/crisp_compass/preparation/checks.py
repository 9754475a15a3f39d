"""The checks before power, as evidence: readings and what was seen in; passed, caution or stop with the reason out.

Limits marked common practice have no standard behind them here; local codes and qualified people decide where mains,
lifting gear or machine guarding is involved.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

from crisp_compass.bench.models import Bench
from crisp_compass.bench.readings import TYPED
from crisp_compass.bench.records import CheckChoice, CheckRecord, LedgerEntry
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.identify.meter import MeterPhases, solve_pairs
from crisp_compass.preparation.supply import first_run
from crisp_compass.quantities import show

Verdict = Literal["open", "passed", "caution", "stop"]
#: Insulation of a phase to the frame, Ω (common practice).
INSULATION_GOOD, INSULATION_LEAST = 100e6, 5e6


@dataclass(frozen=True)
class Field:
    """One reading of a check: name in the record, what people see, unit."""

    name: str
    title: str
    unit: str


@dataclass(frozen=True)
class Check:
    """A check: what to do, which readings it takes (none where something is to be seen and said), and the caution."""

    key: str
    title: str
    how: str
    fields: tuple[Field, ...]
    judge: Callable[[Bench, Mapping[str, float]], tuple[Verdict, str]] | None
    hint: str = ""

    @property
    def inline(self) -> str:
        """The title as it stands inside a sentence."""
        return self.title[:1].lower() + self.title[1:]


@dataclass(frozen=True)
class Judged:
    """A check with its verdict and the reason in one sentence."""

    check: Check
    verdict: Verdict
    reason: str
    record: CheckRecord | None


def _insulation(_: Bench, values: Mapping[str, float]) -> tuple[Verdict, str]:
    worst = min(values, key=lambda k: values[k])
    least = values[worst]
    name = worst[-1].upper()
    if least < INSULATION_LEAST:
        return (
            "stop",
            f"Phase {name} has only {show(least, 'Ω')} to the frame: do not connect the drive; dry or repair the winding.",
        )
    if least < INSULATION_GOOD:
        return (
            "caution",
            f"Phase {name} has {show(least, 'Ω')} to the frame, below 100 MΩ (common practice): dirt or moisture; find out before mains-fed operation.",
        )
    if len(values) < 3:
        return "caution", f"Only {len(values)} of 3 phases measured; they are above 100 MΩ."
    return "passed", f"All phases above 100 MΩ to the frame, least {show(least, 'Ω')}."


def _probes(_: Bench, values: Mapping[str, float]) -> tuple[Verdict, str]:
    lead = values["lead"]
    if lead > 1.0:
        return "caution", f"The probes alone read {show(lead, 'Ω')}: clean the tips or change the leads."
    return "passed", f"The probes read {show(lead, 'Ω')}; it is subtracted from every pair."


def _pairs(bench: Bench, _: Mapping[str, float]) -> tuple[Verdict, str]:
    try:
        solved = solve_bench_pairs(bench)
    except Refusal as refusal:
        return "stop", refusal.sentence
    # a coarse meter is a matter of the value, not of the balance that this check is about
    judged = [f for f in solved.findings if f.code != "meter-coarse"]
    levels = {f.level for f in judged}
    telling = [f for f in judged if f.level != "info"] or judged
    verdict: Verdict = "stop" if "stop" in levels else "caution" if "caution" in levels else "passed"
    return verdict, telling[0].text


def _frame(_: Bench, values: Mapping[str, float]) -> tuple[Verdict, str]:
    r = values["frame"]
    if r > 10:
        return "stop", f"{show(r, 'Ω')} between the frames is no bond: connect protective earth first, to one point."
    if r > 1:
        return "caution", f"{show(r, 'Ω')} between the frames: clean the joint, tighten the earth lead."
    return "passed", f"Motor frame and drive frame are bonded ({show(r, 'Ω')})."


def _polarity(bench: Bench, values: Mapping[str, float]) -> tuple[Verdict, str]:
    v, nominal = values["link"], bench.settings.plate.v_bus
    if v < 0:
        return "stop", f"The meter reads {show(v, 'V')}: plus and minus are swapped; the drive would be destroyed."
    if abs(v / nominal - 1) > 0.15:
        return "caution", f"{show(v, 'V')} is not the {show(nominal, 'V')} of the plate; settle which is right."
    return "passed", f"Plus is plus, {show(v, 'V')}."


def _limit(bench: Bench, values: Mapping[str, float]) -> tuple[Verdict, str]:
    limit, wanted = values["limit"], first_run(bench).supply_limit
    if limit > 3 * wanted:
        return "caution", f"{show(limit, 'A')} lets far more through than the {show(wanted, 'A')} a first run needs."
    return "passed", f"The supply stops at {show(limit, 'A')}."


_PHASES = tuple(Field(n, f"{n[-1].upper()} to frame", "Ω") for n in ("phase_u", "phase_v", "phase_w"))
CHECKS: tuple[Check, ...] = (
    Check("insulation_motor", "Insulation, motor alone", "Cable off. Insulation tester between each phase and the bare frame.", _PHASES, judge=_insulation),
    Check("probe_zero", "Probes together", "Touch the meter's probes together and read.", (Field("lead", "Probes", "Ω"),), judge=_probes),
    Check(
        "pairs", "Three pairs", "Ohmmeter between each two phases.",
        (Field("uv", "U–V", "Ω"), Field("vw", "V–W", "Ω"), Field("wu", "W–U", "Ω")), judge=_pairs,
    ),
    Check("insulation_drive", "Insulation, at the drive end", "Cable on the motor, off the drive. Tester between each lead and the frame; never into the drive.", _PHASES, judge=_insulation),
    Check("frame", "Frame to frame", "Ohmmeter from the motor's bare frame to the drive's earth terminal.", (Field("frame", "Frames", "Ω"),), judge=_frame),
    Check("polarity", "Polarity of the DC link", "Voltmeter at the open supply leads, red on the one meant for plus. Wait for capacitors to discharge before you connect.", (Field("link", "Link", "V"),), judge=_polarity),
    Check("limit", "Supply current limit", "Short the supply's output leads and set the limit, or read it from the display.", (Field("limit", "Limit", "A"),), judge=_limit),
    Check("terminals", "Terminals", "Pull at each lead, tighten every screw once.", (), judge=None, hint="remark, e.g. all six tight"),
    Check("clamped", "Clamped and uncoupled", "Motor held to the bench, load off the shaft, people and loose things clear.", (), judge=None, hint="remark, e.g. two clamps"),
    Check("brake", "Brake, hoist, vertical axis", "Anything that can drop is blocked mechanically: an auto-tune can release the brake or move the load.", (), judge=None, hint="remark, e.g. drum pinned"),
    Check("stop_button", "Emergency stop", "Press it once: the supply must drop. It stays within reach.", (), judge=None, hint="remark, e.g. cuts the supply"),
)  # fmt: skip
BY_CHECK = {check.key: check for check in CHECKS}
CHOICES = {"in-order": "in order", "not-in-order": "not in order", "not-applicable": "does not apply"}


def probe_lead(bench: Bench) -> float:
    """Return what the probes read together [Ω], 0 where they were not read."""
    record = bench.checks.get("probe_zero")
    return record.values.get("lead", 0.0) if record is not None else 0.0


def solve_bench_pairs(bench: Bench, *, cable: float = 0.0) -> MeterPhases:
    """Return the phases of the bench's meter pairs with the meter's own uncertainty; raises Refusal where they cannot be."""
    record = bench.checks.get("pairs")
    meter = bench.settings.instruments
    return solve_pairs(
        dict(record.values) if record else {}, lead=probe_lead(bench), resolution=bench.settings.resistance.meter_resolution, cable=cable,
        gain=meter.meter_gain, contact=meter.meter_contact,
    )  # fmt: skip


def judge(bench: Bench, check: Check) -> Judged:
    """Return the verdict of one check on this bench."""
    record = bench.checks.get(check.key)
    if record is None:
        return Judged(check, "open", check.how, None)
    if record.skipped:
        return Judged(check, "caution", f"Skipped: {record.skipped}", record)
    if check.judge is None:
        remark = f": {record.said}" if record.said else ""
        if not record.choice:
            return Judged(
                check, "open", f"{check.how} Noted{remark}. Choose what it means." if remark else check.how, record
            )
        word = CHOICES[record.choice]
        verdict: Verdict = "stop" if record.choice == "not-in-order" else "passed"
        return Judged(check, verdict, f"{word[:1].upper()}{word[1:]}{remark}.", record)
    if not record.values:
        return Judged(check, "open", check.how, None)
    verdict, reason = check.judge(bench, record.values)
    return Judged(check, verdict, reason, record)


def judge_all(bench: Bench) -> list[Judged]:
    """Return every check with its verdict, in the order of work."""
    return [judge(bench, check) for check in CHECKS]


def record_reading(bench: Bench, key: str, name: str, value: float, when: str) -> Bench:
    """Return the bench with one reading of a check (SI) and its ledger line.

    Raises Refusal for a reading that cannot be (negative resistance or current, not finite).
    """
    check = BY_CHECK[key]
    field = next(f for f in check.fields if f.name == name)
    if not math.isfinite(value) or (field.unit != "V" and value < 0):
        raise Refusal(f"{field.title}: {value:g} cannot be read on a meter", "type the reading again")
    old = judge(bench, check).record
    record = CheckRecord(values={**(old.values if old else {}), name: value}, when=when)
    return _with(bench, key, record, f"{check.title}, {field.title} {show(value, field.unit)}")


def record_choice(bench: Bench, key: str, choice: CheckChoice, remark: str, when: str) -> Bench:
    """Return the bench with what was found for a check that has no reading; raises Refusal where a needed reason is missing."""
    title, remark = BY_CHECK[key].title, remark.strip()
    if choice == "not-applicable" and not remark:
        raise Refusal("why this does not apply is missing", "write the reason as a remark first", where=title)
    said = f"{title}: {CHOICES[choice]}" if choice else title
    return _with(
        bench, key, CheckRecord(choice=choice, said=remark, when=when), f"{said}{f', {remark}' if remark else ''}"
    )


def record_typed(bench: Bench, entry: LedgerEntry) -> Bench:
    """Return the bench with a typed line: meter readings go to their check, a temperature to its field, all into the ledger."""
    if entry.value is None or entry.kind not in TYPED:
        bench = bench.model_copy(update={"ledger": (*bench.ledger, entry)})
        if entry.kind == "temp" and entry.value is not None:
            fresh = bench.settings.resistance.model_copy(update={"temperature": entry.value.value})
            bench = bench.model_copy(update={"settings": bench.settings.model_copy(update={"resistance": fresh})})
        return bench
    key, name = TYPED[entry.kind]
    old = bench.checks.get(key)
    record = CheckRecord(values={**(old.values if old else {}), name: entry.value.value}, when=entry.when)
    return bench.model_copy(update={"checks": {**bench.checks, key: record}, "ledger": (*bench.ledger, entry)})


def skip_check(bench: Bench, key: str, reason: str, when: str) -> Bench:
    """Return the bench with a check left out for a reason, which goes into the ledger and the record."""
    if not reason.strip():
        raise Refusal(
            "no reason is given", "say in a few words why this check is left out", where=BY_CHECK[key].title
        )
    return _with(
        bench, key, CheckRecord(skipped=reason.strip(), when=when), f"{BY_CHECK[key].title} skipped: {reason.strip()}"
    )


def forget_check(bench: Bench, key: str, when: str) -> Bench:
    """Return the bench with a check open again."""
    checks = {k: v for k, v in bench.checks.items() if k != key}
    if any(check == key for check, _ in TYPED.values()):
        checks[key] = CheckRecord(when=when)  # younger than the lines typed before, so that these do not come back
    line = LedgerEntry(when=when, kind="check", text=f"{BY_CHECK[key].title} reset")
    return bench.model_copy(update={"checks": checks, "ledger": (*bench.ledger, line)})


def _with(bench: Bench, key: str, record: CheckRecord, text: str) -> Bench:
    trial = bench.model_copy(update={"checks": {**bench.checks, key: record}})
    verdict = judge(trial, BY_CHECK[key])
    line = LedgerEntry(when=record.when, kind="check", text=f"{text}: {verdict.verdict}")
    return trial.model_copy(update={"ledger": (*bench.ledger, line)})


def blocking_checks(bench: Bench) -> list[Judged]:
    """Return the checks whose verdict is stop; while one stands nothing is armed."""
    return [j for j in judge_all(bench) if j.verdict == "stop"]


#: Open checks that are named one by one before the others are only counted.
_NAMED = 2


def check_findings(bench: Bench) -> list[Finding]:
    """Return what a reader of the bench must know of the checks."""
    judged = judge_all(bench)
    findings = [Finding("stop", "check-stop", f"{j.check.title}: {j.reason}") for j in judged if j.verdict == "stop"]
    findings += [
        Finding("caution", "check-caution", f"{j.check.title}: {j.reason}") for j in judged if j.verdict == "caution"
    ]
    left = [j.check.inline for j in judged if j.verdict == "open"]
    if left:
        first = ", ".join(left) if len(left) <= _NAMED + 1 else f"{', '.join(left[:_NAMED])} and {len(left) - _NAMED} more"
        which = "all of them" if len(left) == len(judged) else first
        text = f"{len(left)} of {len(judged)} checks before power are still open: {which}."
        findings.append(Finding("caution", "checks-open", text))
    return findings
