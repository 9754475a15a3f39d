"""From a capture file to evidence on the bench, by its kind: the same functions serve the page, the record and the commands."""

from __future__ import annotations

import math
import os
from collections.abc import Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence, FoundNote, LedgerEntry
from crisp_compass.bench.rules import require_built
from crisp_compass.bench.settings.instruments import InstrumentSettings
from crisp_compass.capture import Capture, Progress, read_capture
from crisp_compass.capture.gaps import continuous
from crisp_compass.course.channels import spoken
from crisp_compass.course.kind import CaptureKind, to_quantity
from crisp_compass.course.waypoints import BY_KEY, KINDS
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding
from crisp_compass.files import sha256_of, shortened
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.motor import family_of

#: Most captures kept of one waypoint; the oldest of a kind goes first.
_MOST = 24
#: All kinds, those that claim a dropped capture first.
_RANKED = sorted(KINDS.values(), key=lambda k: k.rank)


@dataclass(frozen=True)
class Evaluated:
    """A capture with its kind, its result and the evidence record made of it."""

    kind: CaptureKind
    capture: Capture
    result: Any
    evidence: Evidence

    @property
    def topic(self) -> str:
        """The waypoint it belongs to."""
        return self.kind.topic


def evaluate(
    bench: Bench,
    topic: str,
    file: Path,
    *,
    base: Path,
    when: str,
    columns: Sequence[str] = (),
    kind: str | None = None,
    progress: Progress | None = None,
    capture: Capture | None = None,
) -> Evaluated:
    """Read a capture and run the estimator of its kind.

    Parameters
    ----------
    bench
        For what the estimator must know besides (temperatures, pole pairs).
    topic
        The waypoint it was loaded at.
    file, base
        The capture and the folder of the bench file, from which the path is kept relative.
    kind
        The kind it was read as before; None finds out.
    progress
        Told what part of the file is read.
    capture
        What stands in the file, where it was read already.

    Raises
    ------
    Refusal
        Whatever the reader or the estimator refuses.
    """
    require_built(bench, topic)
    kinds = kinds_of(bench, topic)
    if not kinds:
        raise Refusal(f"the leg {BY_KEY[topic].name} takes no capture")
    with ThreadPoolExecutor(1) as beside:  # hashing leaves the interpreter to the fit
        digest = beside.submit(sha256_of, file)
        found, capture, result = _fitted(bench, kinds, file, columns, kind=kind, progress=progress, capture=capture)
        sha = digest.result()
    try:
        evidence = _evidence(bench, found, file, base, when=when, columns=tuple(columns), capture=capture, result=result, sha=sha)
    except ValidationError:  # an estimate that no motor can have: a unit or a factor slipped
        raise Refusal(
            "what the capture says is not possible for a motor",
            "check the channels' units and factors",
            where=str(file),
        ) from None
    return Evaluated(found, capture, result, evidence)


def _fitted(
    bench: Bench, kinds: Sequence[CaptureKind], file: Path, columns: Sequence[str], kind: str | None, progress: Progress | None,
    capture: Capture | None,
) -> tuple[CaptureKind, Capture, Any]:  # fmt: skip
    if capture is None:
        capture = read_capture(file, columns, need_time=not any(k.table for k in kinds), progress=progress)
    family_of_capture(capture, family_of(bench).captures)
    found = next((k for k in kinds if k.fits(capture)), kinds[0])
    if not found.table and not len(capture.time):
        raise Refusal("there is no time column", "name it t [s] or map it: t=SOURCE", where=str(file))
    result = found.read(bench, capture)
    if not found.table and any(f.code == "gap-in-time" for f in result.findings):
        capture = continuous(capture)  # what is shown is what was evaluated
    if kind in KINDS and KINDS[kind].read is found.read:
        found = KINDS[kind]
    elif found.refine is not None:
        found = KINDS[found.refine(capture, result)]
    return found, capture, result


def _evidence(
    bench: Bench, kind: CaptureKind, file: Path, base: Path, when: str, columns: tuple[str, ...], capture: Capture, result: Any,
    sha: str,
) -> Evidence:  # fmt: skip
    """Return the evidence record of a result; raises ValidationError where an estimate is beyond all ranges."""
    if kind.quantities is not None:
        estimates = kind.quantities(bench, capture, result)
    else:
        estimates = {k: to_quantity(e) for k, e in result.estimates.items()}
    return Evidence(
        file=os.path.relpath(file.resolve(), base.resolve()), sha256=sha, kind=kind.key, columns=columns, when=when,
        method=result.method, estimates=_trusted(bench, kind, estimates),
        findings=tuple(FoundNote(**f.__dict__) for f in result.findings), halls=kind.halls(result) if kind.halls else None,
    )  # fmt: skip


def evidence_path(base: Path, file: str, picked: Collection[str] = ()) -> Path:
    """Return where a capture named by a bench file lies; raises Refusal where it leaves the bench's folder.

    A bench file may come from anybody, so what it names elsewhere is read only if the person ``picked`` it (absolute paths).
    """
    try:
        path = (base / file).resolve()
        inside = path.is_relative_to(base.resolve())
    except (OSError, ValueError, RuntimeError):
        raise Refusal(
            "the path of the capture is not possible", "load the capture again", where=shortened(file)
        ) from None
    if not inside and str(path) not in picked:
        raise Refusal(
            "the capture lies outside the bench's folder, and is not read on the word of a file",
            "load it again to use it",
            where=shortened(file),
        )
    return path


def read_again(bench: Bench, evidence: Evidence, base: Path, picked: Collection[str] = ()) -> Evaluated:
    """Evaluate a capture of the bench anew; raises Refusal where it vanished, changed or lies elsewhere."""
    path = evidence_path(base, evidence.file, picked)
    if not path.is_file():
        raise Refusal("the capture is no longer there", "put it back or load another", where=shortened(evidence.file))
    if sha256_of(path) != evidence.sha256:
        raise Refusal(
            "the capture has changed since it was read", "load it again to take the new content",
            where=shortened(evidence.file),
        )  # fmt: skip
    topic = KINDS[evidence.kind].topic
    return evaluate(bench, topic, path, base=base, when=evidence.when, columns=evidence.columns, kind=evidence.kind)


def _gain(instruments: InstrumentSettings, kind: CaptureKind) -> float:
    return math.hypot(*(getattr(instruments, c) for c in kind.gains))


def _trusted(bench: Bench, kind: CaptureKind, estimates: dict[str, Quantity]) -> dict[str, Quantity]:
    """Return estimates with the instruments' gains in their error bars, and beside it what a repeat shows."""
    gain = _gain(bench.settings.instruments, kind)
    return estimates | {
        name: _wider(q, q.interval95, q.u, gain)
        for name, q in estimates.items()
        if name in kind.gained and q.u and q.interval95 is not None
    }


def _wider(quantity: Quantity, interval: tuple[float, float], u: float, gain: float) -> Quantity:
    bare = Estimate(quantity.value, quantity.unit, u, *interval)
    return to_quantity(bare.widened(gain * abs(quantity.value))).model_copy(update={"u_repeat": u})


def set_instrument(bench: Bench, field: str, u: float) -> Bench:
    """Return the bench with one figure of its instruments changed, the error bars of all captures brought to it.

    Raises Refusal for a figure that the model does not allow.
    """
    old = bench.settings.instruments
    try:
        fresh = type(old).model_validate({**old.model_dump(), field: u})
    except ValueError:
        raise Refusal(f"an uncertainty of {100 * u:.3g} % is not possible", "0 to 50 % is") from None
    evidence = {
        topic: tuple(e.model_copy(update={"estimates": _again(e, old, fresh)}) for e in items)
        for topic, items in bench.evidence.items()
    }
    settings = bench.settings.model_copy(update={"instruments": fresh})
    return bench.model_copy(update={"settings": settings, "evidence": evidence})


def _again(evidence: Evidence, old: InstrumentSettings, fresh: InstrumentSettings) -> dict[str, Quantity]:
    kind = KINDS[evidence.kind]
    before, after = _gain(old, kind), _gain(fresh, kind)
    changed = {}
    for name, q in evidence.estimates.items():
        if name in kind.gained and q.u_repeat is not None and q.interval95 is not None:
            low, high = q.interval95
            half = math.sqrt(max((0.5 * (high - low)) ** 2 - (1.959964 * before * q.value) ** 2, 0.0))
            middle = 0.5 * (low + high)
            changed[name] = _wider(q, (middle - half, middle + half), q.u_repeat, after)
    return {**evidence.estimates, **changed}


def add_evidence(bench: Bench, evidence: Evidence) -> Bench:
    """Return the bench with evidence added; the same file read again takes its old place, another one is a repeat."""
    topic = KINDS[evidence.kind].topic
    others = [e for e in bench.evidence.get(topic, ()) if (e.file, e.kind) != (evidence.file, evidence.kind)]
    others = others[-(_MOST - 1) :]
    mapped = f" ({spoken(evidence.columns)})" if evidence.columns else ""
    line = LedgerEntry(
        when=evidence.when, kind="file", text=f"{Path(evidence.file).name}  {headline_of(evidence)}{mapped}"[:4000]
    )
    return bench.model_copy(
        update={"evidence": {**bench.evidence, topic: (*others, evidence)}, "ledger": (*bench.ledger, line)}
    )


def without(bench: Bench, evidence: Evidence) -> Bench:
    """Return the bench without one capture, nothing said: another reading of it takes its place."""
    topic = KINDS[evidence.kind].topic
    kept = tuple(e for e in bench.evidence.get(topic, ()) if e != evidence)
    return bench.model_copy(update={"evidence": {**bench.evidence, topic: kept}})


def drop_evidence(bench: Bench, evidence: Evidence, when: str) -> Bench:
    """Return the bench without one capture and with a ledger line that says so."""
    topic = KINDS[evidence.kind].topic
    kept = tuple(e for e in bench.evidence.get(topic, ()) if e != evidence)
    line = LedgerEntry(when=when, kind="file", text=f"{Path(evidence.file).name} removed from the bench")
    return bench.model_copy(update={"evidence": {**bench.evidence, topic: kept}, "ledger": (*bench.ledger, line)})


def headline_of(evidence: Evidence) -> str:
    """Return the evidence's main figure as a short text."""
    return KINDS[evidence.kind].headline(evidence)


def kinds_of(bench: Bench, topic: str) -> tuple[CaptureKind, ...]:
    """Return the kinds of capture that a waypoint takes of the bench's motor."""
    family = family_of(bench).captures
    return tuple(k for k in BY_KEY[topic].captures if k.families.count(family))


def guess_kind(bench: Bench, capture: Capture, here: str = "") -> CaptureKind:
    """Tell from the channels what kind of capture this is; raises Refusal if it is none.

    ``here`` is the waypoint whose page is open: it comes first where the capture would do for it.
    """
    family_of_capture(capture, family_of(bench).captures)
    own = {k.key for topic in BY_KEY for k in kinds_of(bench, topic)}
    # legs that this bench has come first; the others take what none of those would
    for kind in sorted(_RANKED, key=lambda k: not BY_KEY[k.topic].applies(bench)):
        if kind.key in own and kind.claims(capture, here):
            return kind
    raise Refusal(
        f"it is not clear which leg this capture is for (it holds {', '.join(sorted(capture.columns))})",
        "open the leg first and load it there", where=capture.source,
    )  # fmt: skip


def differs(first: Evidence, second: Evidence) -> bool:
    """Tell whether two evaluations say something different, rounding of the last digits aside."""
    if first.findings != second.findings or set(first.estimates) != set(second.estimates):
        return True
    pairs = [(first.estimates[k], second.estimates[k]) for k in first.estimates]
    return any(abs(a.value - b.value) > 1e-6 * abs(a.value) + 1e-3 * (a.u or 0.0) for a, b in pairs)


def findings_of(evidence: Evidence) -> list[Finding]:
    """Return the findings kept with evidence."""
    return [Finding(f.level, f.code, f.text) for f in evidence.findings]
