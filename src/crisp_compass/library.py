"""The interface for scripts, as ``import crisp_compass`` gives it: captures, identification, tuning, benches, simulation, export.

What is named in ``crisp_compass.__all__`` is stable: it changes with the major version only, and what goes is warned of a minor version before. Everything else may change at any time.
All figures are SI; currents are phase peaks; bad input raises :class:`Refusal`.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settle as _settle
from crisp_compass.capture import Capture, read_capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding, Result
from crisp_compass.plugins import estimators_of

#: What a capture tells, by what is asked.
SUBJECTS = ("resistance", "inductance", "flux", "mechanics", "speed-response", "resonance")


def estimate(subject: str, capture: Capture | Path | str, **known: Any) -> Result:
    """Identify a ``subject`` from a capture or its file; what is ``known`` goes to its estimator (``kt``, ``inertia``, ``pole_pairs``, ``turns``, ``family``).

    Returns a result with ``estimates`` (name → :class:`Estimate`), ``method`` and ``findings``. Raises Refusal for what a capture cannot tell, and for an unknown subject.
    """
    if subject not in SUBJECTS:
        raise Refusal(f"there is no “{subject}” to identify", f"one of {', '.join(SUBJECTS)}")
    read = capture if isinstance(capture, Capture) else read_capture(capture)
    if subject == "resistance":
        from crisp_compass.identify.resistance import fit_resistance as fit
    elif subject == "inductance":
        from crisp_compass.identify.inductance import fit_inductance as fit  # type: ignore[assignment]
    elif subject == "flux":
        from crisp_compass.identify.any_flux import fit_any_flux as fit  # type: ignore[assignment]
    elif subject == "mechanics":
        from crisp_compass.identify.mechanics import fit_mechanics as fit  # type: ignore[assignment]
    elif subject == "resonance":
        from crisp_compass.identify.resonance import fit_resonance as fit  # type: ignore[assignment]
    else:
        from crisp_compass.identify.speed_response import fit_speed_response as fit  # type: ignore[assignment]
    try:
        return fit(read, **known)
    except TypeError as error:
        raise Refusal(f"{subject} does not know what was given: {error}", "see its page in the reference") from None


def compare(subject: str, capture: Capture | Path | str, **known: Any) -> dict[str, Mapping[str, Estimate] | Refusal]:
    """Return what the program's own estimator and every registered one say of a capture: name → estimates, or why it refused."""
    read = capture if isinstance(capture, Capture) else read_capture(capture)
    found: dict[str, Mapping[str, Estimate] | Refusal] = {}
    try:
        found["crisp-compass"] = estimate(subject, read, **known).estimates
    except Refusal as refusal:
        found["crisp-compass"] = refusal
    for name, own in estimators_of(subject).items():
        try:
            found[name] = own(read, **known)
        except Refusal as refusal:
            found[name] = refusal
    return found


def settle(bench: Bench, topic: str, values: Mapping[str, Estimate | Quantity | tuple[float, str]], *, reason: str) -> Bench:
    """Return the bench with ``values`` (name → estimate, what :func:`propose` gave, or value and unit) settled under a topic for a ``reason``; raises Refusal as the window does."""
    quantities = {
        name: v if isinstance(v, Quantity) else Quantity(value=v.value, unit=v.unit, u=v.u, interval95=(v.low, v.high)) if isinstance(v, Estimate) else Quantity(value=v[0], unit=v[1])
        for name, v in values.items()
    }  # fmt: skip
    return _settle(bench, topic, quantities, reason=reason, when=datetime.now().isoformat(timespec="seconds"), method="script")


def propose(bench: Bench, topic: str) -> dict[str, Quantity]:
    """Return what settling a topic (``current_loop``, ``speed_loop``, ``pwm``, ``motion`` …) would settle, as its page does; raises Refusal naming what is missing."""
    from crisp_compass.course.waypoints import BY_KEY

    if topic not in BY_KEY or BY_KEY[topic].propose is None:
        able = sorted(k for k, w in BY_KEY.items() if w.propose is not None)
        raise Refusal(f"“{topic}” proposes nothing by itself", f"one of {', '.join(able)}")
    ask = BY_KEY[topic].propose
    assert ask is not None
    return dict(ask(bench).values)


def enter(bench: Bench, topic: str, **fields: Any) -> Bench:
    """Return the bench with settings entered, as a person types them into the fields of a page (SI); raises Refusal for what no bench takes."""
    from crisp_compass.bench.entered import enter as put
    from crisp_compass.bench.entered import with_family

    try:
        if topic == "plate" and "family" in fields:
            return with_family(bench, **fields)  # another kind of motor is another plate
        return put(bench, topic, fields)
    except (ValueError, AttributeError, KeyError) as error:
        raise Refusal(f"{topic} does not take {', '.join(fields)}: {error}", "see docs/bench.schema.json") from None


def simulate(bench: Bench, scenario: str = "speed-step", *, seed: int = 1) -> Capture:
    """Return the capture of a simulated run of a settled bench: ``speed-step``, ``load-step``, ``reversal``, ``current-step``, ``shake``; its note ``fault`` says what tripped it."""
    from crisp_compass.studies.scenarios import capture_columns, run_scenario

    trace, fault = run_scenario(bench, scenario, seed=seed)
    return Capture(f"{bench.name}, {scenario}", np.asarray(trace["t"]), dict(capture_columns(trace)), {"fault": fault} if fault else {})


def export_firmware(bench: Bench, folder: Path | str) -> list[Path]:
    """Write the C firmware of a settled bench into a folder; return its files. What was filled in by hand is never written over."""
    from crisp_compass.firmware.save import make_firmware, write_files

    target = Path(folder)
    fresh = make_firmware(bench, datetime.now().isoformat(" ", "minutes")).fresh(target)
    write_files(target, fresh)
    return [target / source.name for source in fresh]


def export_record(bench: Bench, path: Path | str, *, captures: Path | str = ".") -> Path:
    """Write the record (``.html`` or ``.pdf``) of a bench; its captures are read in the folder ``captures``."""
    from crisp_compass.record.save import save_record

    save_record(Path(path), bench, Path(captures), datetime.now().isoformat(" ", "minutes"))
    return Path(path)


def stated(finding: Finding) -> str:
    """Return a finding as one line: ``caution few-levels: …``."""
    return f"{finding.level} {finding.code}: {finding.text}"
