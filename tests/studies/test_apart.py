"""A piece of work in a process of its own: let go, begun anew, and one that ends early."""

from __future__ import annotations

import math
import os

import pytest

from crisp_compass.errors import Refusal
from crisp_compass.studies.apart import apart, let_go, stand_by


def test_one_that_was_let_go_or_died_is_replaced() -> None:
    stand_by(os.getpid)
    first = apart(os.getpid, ())
    assert first != os.getpid()
    let_go()
    assert apart(os.getpid, ()) not in (first, os.getpid())
    with pytest.raises(Refusal, match="ended early"):
        apart(os._exit, (1,))
    assert apart(math.sqrt, (16.0,)) == 4.0
    let_go()
