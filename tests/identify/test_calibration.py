"""The calibration script on a few captures of every method: errors small, intervals hold, nothing silently wrong."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pytest

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "tools"))

import calibrate


@pytest.mark.thorough(each=3)
@pytest.mark.parametrize("name", calibrate.METHODS)
def test_method(name: str) -> None:
    found = [calibrate.one((name, k)) for k in range(1000, 1012 if name.startswith("speed") else 1004)]
    answers = [o for o in found if not isinstance(o, str)]
    assert len(answers) >= 4, found
    for quantity, target in calibrate.METHODS[name][1].items():
        mine = [o for answer in answers for o in answer if o.quantity == quantity]
        assert mine, quantity
        assert 100 * float(np.median([o.error for o in mine])) <= target
    every = [o for answer in answers for o in answer]
    assert not any(o.silent for o in every)
    assert np.mean([o.held for o in every]) >= 0.7  # a few captures: the table in docs/accuracy.md has three hundred


def test_the_table_of_the_repository_meets_its_targets() -> None:
    """What docs/accuracy.md claims is what the issue of the day asked for: median, coverage, nothing silent."""
    text = (Path(__file__).resolve().parents[2] / "docs" / "accuracy.md").read_text(encoding="utf-8")
    rows = [
        [c.strip() for c in line.strip("|").split("|")]
        for line in text.splitlines()
        if line.startswith("| ") and "median" not in line
    ]
    assert {row[0] for row in rows} == set(calibrate.METHODS)
    for method, quantity, answered, median, target, _, held, silent in rows:
        assert int(answered) >= (200 if quantity == "delay" else 285), method  # a delay of a part of a row is left out, and said
        assert target == "–" or float(median) <= float(target), (method, quantity)
        most = 99.5 if method.startswith("speed response") and "friction" in quantity else 98.0  # where two speeds alone part them, a rare one is far off
        assert 92.0 <= float(held) <= most, (method, quantity, held)
        assert int(silent) == 0, (method, quantity)
