"""Interference before and after a remedy: peak readings in, reductions in % and dB out."""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import LedgerEntry, SpikeReading
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.quantities import show

#: What people try, in the order they usually help (common practice).
REMEDIES = (
    "screened motor cable, screen earthed at both ends", "signal cable screened and earthed", "signal away from power, crossing at right angles",
    "ferrites on the motor cable", "short and twisted signal pairs", "earth brought to one point", "filter at the input",
)  # fmt: skip


#: A change of less than this is within what two readings of a spike differ by.
_NO_EFFECT = 0.05


@dataclass(frozen=True)
class Effect:
    """One remedy against the reading before it (``on_top`` of what was changed before) or else against the first: peak [V], reduction as a ratio (negative if it
    got worse) and in dB; ``total`` the reduction against the first reading, of all that was in place."""

    remedy: str
    peak: float
    reduction: float
    decibel: float
    total: float
    on_top: bool
    loaded: bool
    comparable: bool


@dataclass(frozen=True)
class Interference:
    """The first reading, the effects in order of help, findings, and the newest effect."""

    before: SpikeReading | None
    effects: tuple[Effect, ...]
    findings: tuple[Finding, ...]
    last: Effect | None = None


def judge_spikes(bench: Bench) -> Interference:
    """Compare each reading with the one that it stands on: the newest without any remedy, or the one before where its changes stayed in place."""
    first = [s for s in bench.spikes if not s.remedy]
    if not first:
        text = "Read the peak before anything is changed: without it no remedy can be judged."
        return Interference(None, (), (Finding("caution", "no-reference", text),) if bench.spikes else ())
    before = first[-1]
    effects, last = [], before
    for s in bench.spikes:
        if not s.remedy:
            last = before
            continue
        base = last if s.on_top else before
        effects.append(
            Effect(
                s.remedy, s.peak, 1 - s.peak / base.peak, 20 * math.log10(base.peak / s.peak), total=1 - s.peak / before.peak, on_top=s.on_top, loaded=s.loaded,
                comparable=s.loaded == base.loaded,
            )
        )  # fmt: skip
        last = s
    newest = effects[-1] if effects else None
    effects.sort(key=lambda e: -e.decibel)
    findings = []
    if any(not e.comparable for e in effects):
        text = "Some readings were taken with a load and some without; only equal conditions compare."
        findings.append(Finding("caution", "load-differs", text))
    if not before.loaded:
        text = "The first reading has no load connected: spikes grow with current, so measure with the load on."
        findings.append(Finding("caution", "no-load", text))
    worse = [e for e in effects if e.reduction < 0 and e.comparable]
    if worse:
        findings.append(
            Finding(
                "info",
                "made-worse",
                f"“{worse[-1].remedy}” made it worse by {-100 * worse[-1].reduction:.0f} %: undo it.",
            )
        )
    idle = [e for e in effects if e.comparable and abs(e.reduction) < _NO_EFFECT]
    if idle:
        names = ", ".join(f"“{e.remedy}”" for e in idle)
        findings.append(Finding("info", "no-effect", f"{names} changed less than {100 * _NO_EFFECT:.0f} %: it does nothing here."))
    best = [e for e in effects if e.comparable and e.reduction >= _NO_EFFECT]
    if best:
        e = best[0]
        text = f"Best so far: {e.remedy}, −{100 * e.reduction:.0f} % ({e.decibel:.1f} dB), {show(e.peak, 'V')} left."
        findings.append(Finding("info", "best-remedy", text))
    return Interference(before, tuple(effects), tuple(findings), newest)


def add_spike(bench: Bench, remedy: str, peak: float, loaded: bool, when: str, *, on_top: bool = False) -> Bench:
    """Return the bench with a peak reading [V] and its ledger line; raises Refusal unless it is above zero."""
    if not (peak > 0 and math.isfinite(peak)):
        raise Refusal("a peak above zero is needed", "type the height of the spike, e.g. 6.5 V")
    reading = SpikeReading(remedy=remedy.strip(), peak=peak, loaded=loaded, on_top=on_top, when=when)
    text = f"spike {show(peak, 'V')}, {remedy.strip() or 'nothing changed yet'}, load {'on' if loaded else 'off'}"
    line = LedgerEntry(when=when, kind="spike", text=text)
    return bench.model_copy(update={"spikes": (*bench.spikes, reading), "ledger": (*bench.ledger, line)})


def drop_spike(bench: Bench, index: int) -> Bench:
    """Return the bench without one reading."""
    kept = tuple(s for k, s in enumerate(bench.spikes) if k != index)
    return bench.model_copy(update={"spikes": kept})
