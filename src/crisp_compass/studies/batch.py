"""One study spread over processors: tasks in, answers in the order of the tasks, whoever worked them out.

A study is a function of a task and a seed that can be pickled. The seed of a task comes from the study's seed and the task's
place alone, so the answers are the same whatever the number of workers and wherever they sit. Locally the workers are processes; with a
``scheduler`` address the same tasks go to a cluster of Dask (an extra of the installation).
"""

from __future__ import annotations

import contextlib
import logging
import multiprocessing
import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from typing import Any, TypeVar

import numpy as np

from crisp_compass.errors import Refusal

Task = TypeVar("Task")
Answer = TypeVar("Answer")
Work = Callable[[Task, int], Answer]
_LOG = logging.getLogger(__name__)
#: How often a task is tried again after its worker died.
_TRIES = 3
#: Workers for each processor: more only wait for each other.
MOST_WORKERS = 8
#: How often a worker looks whether the program that started it still lives, s.
_LOOKS = 0.5
#: How often whoever asked for a study is asked whether it is still wanted, s.
_ASKS = 0.25


class Cancelled(Exception):  # noqa: N818 - somebody's wish, not a malfunction
    """Whoever asked for the study has called it off."""


def seed_of(seed: int, place: int) -> int:
    """Return the seed of the task at a place (NumPy's SeedSequence)."""
    return int(np.random.SeedSequence([seed, place]).generate_state(1)[0])


def processors() -> int:
    """Return how many processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def spread(
    work: Work[Task, Answer],
    tasks: Sequence[Task],
    *,
    seed: int = 1,
    workers: int | None = None,
    scheduler: str | None = None,
    arrived: Callable[[int, Answer], None] | None = None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Answer]:
    """Work out every task; return the answers in the order of the tasks.

    Parameters
    ----------
    work
        Function of a task and its seed, at the top of a module.
    tasks
        What it is asked; each is pickled on its way.
    seed
        Of the whole study.
    workers
        Local processes; as many as there are processors if left out, 1 works in this process.
    scheduler
        Address of a Dask scheduler (``tcp://host:port``) instead of local processes.
    arrived
        Called in this thread with place and answer of each task as it is done, in any order.
    cancelled
        Asked between answers; once it says yes, what is waiting is dropped and :class:`Cancelled` raised.

    Raises
    ------
    Refusal
        The scheduler is not there, Dask is not installed, or a task's worker dies again and again.
    """
    if scheduler is not None:
        return _on_cluster(work, tasks, seed, scheduler, arrived=arrived, cancelled=cancelled)
    count = processors() if workers is None else workers
    most = MOST_WORKERS * processors()
    if not 1 <= count <= most:
        raise Refusal(f"{count} workers are not possible here", f"1 to {most} are", where="--workers")
    if count == 1 or len(tasks) < 2:
        return _here(work, tasks, seed, arrived, cancelled=cancelled)
    return _in_processes(work, tasks, seed, count, arrived=arrived, cancelled=cancelled)


def _here(
    work: Work[Task, Answer],
    tasks: Sequence[Task],
    seed: int,
    arrived: Callable[[int, Answer], None] | None,
    cancelled: Callable[[], bool],
) -> list[Answer]:
    answers = []
    for place, task in enumerate(tasks):
        if cancelled():
            raise Cancelled
        answers.append(work(task, seed_of(seed, place)))
        if arrived is not None:
            arrived(place, answers[-1])
    return answers


_pool: tuple[int, ProcessPoolExecutor] | None = None
_lock = threading.Lock()


def single_threaded(parent: int) -> None:
    """Keep a worker to its one processor, and let whoever asked deal with the keyboard."""
    import signal

    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "NUMBA_NUM_THREADS"):
        os.environ[name] = "1"
    with contextlib.suppress(ValueError):
        signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with_parent, args=(parent,), daemon=True).start()


def _end_with_parent(parent: int) -> None:
    """Leave at once when the program that asked is gone: it cannot say so any more."""
    while os.getppid() == parent:
        time.sleep(_LOOKS)
    os._exit(1)


def local_pool(count: int) -> ProcessPoolExecutor:
    """Return the local workers, started once and kept: loading the compiled kernels takes each a second."""
    global _pool  # noqa: PLW0603 - one pool a program
    with _lock:
        if _pool is None or _pool[0] != count:
            if _pool is not None:
                _pool[1].shutdown(wait=False, cancel_futures=True)
            context = multiprocessing.get_context("spawn")
            _pool = (count, ProcessPoolExecutor(count, mp_context=context, initializer=single_threaded, initargs=(os.getpid(),)))
        return _pool[1]


def close_pool() -> None:
    """End the local workers, in the middle of a task if need be: nobody waits for the answer any more."""
    global _pool
    with _lock:
        pool, _pool = _pool, None
    if pool is not None:
        _kill(pool[1])


def _kill(pool: ProcessPoolExecutor) -> Any:
    """End a pool's processes; return the thread that looks after them (None before the first task), which ends by itself soon after."""
    running, keeper = list((pool._processes or {}).values()), pool._executor_manager_thread
    pool.shutdown(wait=False, cancel_futures=True)
    for process in running:
        process.kill()
    return keeper


def _end() -> None:
    """End the local workers with the program, and wait for the thread that looks after them: the library wakes it once more at the end, and
    complains of a closed pipe where that comes between two of its last steps."""
    global _pool
    with _lock:
        pool, _pool = _pool, None
    keeper = _kill(pool[1]) if pool is not None else None
    if keeper is not None:
        keeper.join(5.0)


# before the library's own end of the program, which waits for the tasks that run
threading._register_atexit(_end)  # type: ignore[attr-defined]


def _bundles(places: Sequence[int], count: int) -> Iterator[list[int]]:
    """Yield the places in bundles: few enough messages, and at least eight bundles a worker so that answers appear early."""
    size = max(1, min(len(places) // (8 * count), 64))
    for at in range(0, len(places), size):
        yield list(places[at : at + size])


def _bundle(work: Work[Task, Answer], tasks: list[Task], seeds: list[int]) -> list[Answer]:
    return [work(task, seed) for task, seed in zip(tasks, seeds, strict=True)]


def _in_processes(
    work: Work[Task, Answer],
    tasks: Sequence[Task],
    seed: int,
    count: int,
    arrived: Callable[[int, Answer], None] | None,
    cancelled: Callable[[], bool],
) -> list[Answer]:
    answers: dict[int, Answer] = {}
    for attempt in range(_TRIES):
        left = [k for k in range(len(tasks)) if k not in answers]
        if not left:
            break
        pool = local_pool(count)
        waiting: dict[Future[list[Answer]], list[int]] = {}
        try:
            for places in _bundles(left, count):
                seeds = [seed_of(seed, k) for k in places]
                waiting[pool.submit(_bundle, work, [tasks[k] for k in places], seeds)] = places
            open_ = set(waiting)
            while open_:
                # woken now and then, so that neither a wish to stop nor Ctrl+C waits for the next answer
                finished, open_ = wait(open_, timeout=_ASKS, return_when=FIRST_COMPLETED)
                for done in finished:
                    for place, answer in zip(waiting[done], done.result(), strict=True):
                        answers[place] = answer
                        if arrived is not None:
                            arrived(place, answer)
                if cancelled():
                    for future in open_:
                        future.cancel()
                    raise Cancelled
        except (KeyboardInterrupt, SystemExit):
            close_pool()
            raise
        except BrokenProcessPool:  # a worker was killed: what is done stays, the rest is asked again
            close_pool()
            _LOG.warning("a worker was killed; %d of %d tasks are done, the rest is asked again", len(answers), len(tasks))
            if attempt == _TRIES - 1:
                raise Refusal(
                    "the workers end again and again before they answer", "use --workers 1, or more memory"
                ) from None
    return [answers[k] for k in range(len(tasks))]


def _on_cluster(
    work: Work[Task, Answer],
    tasks: Sequence[Task],
    seed: int,
    scheduler: str,
    arrived: Callable[[int, Answer], None] | None,
    cancelled: Callable[[], bool],
) -> list[Answer]:
    try:
        from distributed import Client
        from distributed import as_completed as cluster_completed
        from distributed.scheduler import KilledWorker
    except ImportError:
        raise Refusal(
            "Dask is not installed", "install the extra: pip install 'crisp-compass[cluster]'", where="--scheduler"
        ) from None
    try:
        client: Any = Client(scheduler, timeout="10s", set_as_default=False)
    except (OSError, ValueError, TimeoutError):
        raise Refusal(
            f"there is no scheduler at {scheduler}", "start one, or check the address", where="--scheduler"
        ) from None
    with client:
        threads = max(sum(client.nthreads().values()), 1)
        answers: dict[int, Answer] = {}
        waiting = {}
        for places in _bundles(range(len(tasks)), threads):
            seeds = [seed_of(seed, k) for k in places]
            future = client.submit(
                _bundle, work, [tasks[k] for k in places], seeds, pure=False, retries=_TRIES, key=f"study-{seed}-{id(tasks)}-{places[0]}"
            )  # fmt: skip
            waiting[future] = places
        try:
            for done in cluster_completed(list(waiting), loop=client.loop):
                for place, answer in zip(waiting[done], done.result(), strict=True):
                    answers[place] = answer
                    if arrived is not None:
                        arrived(place, answer)
                if cancelled():
                    client.cancel(list(waiting))
                    raise Cancelled
        except KilledWorker:
            raise Refusal(
                "the cluster's workers end again and again", "look at their logs", where="--scheduler"
            ) from None
    return [answers[k] for k in range(len(tasks))]
