"""The last line of every fit: what cannot be solved is refused in a sentence, never answered with a number that is none."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from typing import ParamSpec, TypeVar

import numpy as np

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Result

P = ParamSpec("P")
R = TypeVar("R", bound=Result)


def solvable(function: Callable[P, R]) -> Callable[P, R]:
    """Wrap a fit of captures: arithmetic that breaks down, or an estimate that is not finite, becomes a Refusal."""

    @functools.wraps(function)
    def wrapped(*args: P.args, **kwargs: P.kwargs) -> R:
        source = getattr(args[0], "source", "") if args else ""
        problem = Refusal(
            "the channels do not hold what this test needs",
            "check that the right channels are mapped, with their units, and that the test was done as described",
            where=source,
        )
        try:
            with np.errstate(all="ignore"):
                result = function(*args, **kwargs)
        except (np.linalg.LinAlgError, ZeroDivisionError, OverflowError, FloatingPointError):
            raise problem from None
        if not all(math.isfinite(x) for e in result.estimates.values() for x in (e.value, e.u, e.low, e.high)):
            raise problem
        return result

    return wrapped
