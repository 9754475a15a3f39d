"""One longer piece of work in a process of its own, which may be started ahead and is kept until it is let go."""

from __future__ import annotations

import multiprocessing
import os
import threading
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from crisp_compass.errors import Refusal
from crisp_compass.studies.batch import single_threaded

_pool: ProcessPoolExecutor | None = None
_lock = threading.Lock()
#: Pieces of work that may be under way at once; a second process is started only where the first is busy.
_MOST = 2


def _ask(function: Callable[..., Any], *arguments: Any) -> Future[Any]:
    """Give the process something to do; under the lock, so that nobody lets go of it in between."""
    global _pool  # noqa: PLW0603 - one a program
    with _lock:
        if _pool is None:
            # spawned, because a fork would copy a process with running threads and an open window
            context = multiprocessing.get_context("spawn")
            _pool = ProcessPoolExecutor(_MOST, mp_context=context, initializer=single_threaded, initargs=(os.getpid(),))
        return _pool.submit(function, *arguments)


def stand_by(prepare: Callable[[], object]) -> None:
    """Start the process and let it ``prepare`` (a function at the top of a module): loading the libraries takes longer than most work."""
    _ask(prepare)


def apart(function: Callable[..., Any], arguments: tuple[Any, ...]) -> Any:
    """Return what a function at the top of a module says of ``arguments``; all of it can be pickled. Raises Refusal where the process ended early."""
    try:
        return _ask(function, *arguments).result()
    except BrokenProcessPool:
        let_go()
        raise Refusal("the process that worked on it ended early", "try again") from None


def let_go() -> None:
    """End the process once it is done with what it is at."""
    global _pool
    with _lock:
        pool, _pool = _pool, None
    if pool is not None:
        pool.shutdown(wait=False)
