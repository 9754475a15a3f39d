"""The one place that prints results and turns refusals into exit code 2."""

from __future__ import annotations

import functools
import json
import math
import os
import re
import sys
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, NoReturn, ParamSpec

import typer

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, Finding
from crisp_compass.files import shortened
from crisp_compass.outputs import is_ours, remember
from crisp_compass.plausible import check_estimates, check_plausible
from crisp_compass.quantities import UNITS, check_bounds, parse, show, show_with_error, to_si
from crisp_compass.safe_text import line

P = ParamSpec("P")


#: What this command writes, with what stood there before; remembered once it has been written, which a refused command may never do.
_TARGETS: dict[Path, tuple[int, ...]] = {}


def _mark(path: Path) -> tuple[int, ...]:
    """Return what changes with every writing of a file, empty where none stands."""
    if not path.exists():
        return ()
    s = path.stat()
    return s.st_ino, s.st_size, s.st_mtime_ns


def refuse(sentence: str) -> NoReturn:
    """Print one line on standard error and leave with 2."""
    print(line(sentence), file=sys.stderr)
    raise typer.Exit(2)


def command(function: Callable[P, None]) -> Callable[P, None]:
    """Wrap a command so that a refusal is one sentence and never a traceback."""

    @functools.wraps(function)
    def wrapped(*args: P.args, **kwargs: P.kwargs) -> None:
        _TARGETS.clear()
        try:
            function(*args, **kwargs)
        except Refusal as refusal:
            refuse(refusal.sentence)
        except MemoryError:
            refuse("There is not enough memory for this capture; shorten it.")
        except BrokenPipeError:  # the reader left early, which is no error; what still waits has nobody to read it
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise typer.Exit(0) from None
        except OSError as error:
            if error.filename is None:  # not a file that was named: nobody's input
                raise
            refuse(f"{shortened(error.filename, 200)}: it cannot be used ({error.strerror}); choose another file or name.")
        finally:
            remember([path for path, before in _TARGETS.items() if _mark(path) != before])

    return wrapped


def refuse_idle(beside: str, given: Mapping[str, object]) -> None:
    """Refuse an option that was given and would have no effect beside another."""
    for option, value in given.items():
        if value is not None and value is not False:
            raise Refusal(f"it has no effect beside {beside}", "leave it out", where=option)


def new_file(output: str, *inputs: str | None, force: bool = False) -> Path:
    """Return the path of a file to be written.

    Raises Refusal for a folder, where there is none to write it into, where it is one of the ``inputs``, and where somebody else's file
    stands there unless ``force`` says that it may go.
    """
    path = Path(output)
    if path.is_dir():
        raise Refusal("this is a folder", "name a file", where=output)
    if not path.parent.is_dir():
        raise Refusal(f"there is no folder {path.parent}", "make it first", where=output)
    _check_free(path, inputs, force=force)
    _TARGETS[path] = _mark(path)
    return path


def new_files(folder: Path, names: Sequence[str], *, force: bool) -> list[Path]:
    """Return the paths of several files to be written into a folder; refuses all of them where one stands there that is somebody else's."""
    paths = [folder / name for name in names]
    for path in paths:
        _check_free(path, (), force=force)
    _TARGETS.update((path, _mark(path)) for path in paths)
    return paths


def _check_free(path: Path, inputs: Sequence[str | None], *, force: bool) -> None:
    for given in inputs:
        if given and Path(given).exists() and path.exists() and path.samefile(given):
            raise Refusal("this is an input of the command", "name another file for the output", where=str(path))
    if path.exists() and not force and not is_ours(path):
        raise Refusal(
            "a file stands here that this program did not write, or that was changed since",
            "name another one, or say --force to replace it",
            where=str(path),
        )


def number(unit: str, name: str = "") -> Callable[[str], float]:
    """Return a reader of an option in ``unit``, SI out; ``name`` is what it is in :mod:`crisp_compass.plausible`, which refuses what none has.

    A plain number with a decimal point is taken as programs write it (``1.234``); anything else as people type it.
    """

    def read(text: str | float) -> float:
        if isinstance(text, float):  # a default
            return text
        value = figure(text)
        if name and value > 0:  # zero and below have their own sentence where they are used
            try:
                check_plausible(name, value)
            except Refusal as refusal:
                raise typer.BadParameter(refusal.sentence.rstrip(".")) from None
        return value

    def figure(text: str) -> float:
        if re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?", text):
            value = to_si(float(text), unit)
            try:
                check_bounds(value, UNITS[unit].dimension, text)
            except Refusal as refusal:
                raise typer.BadParameter(refusal.sentence.rstrip(".")) from None
            return value
        try:
            return parse(text, unit)
        except Refusal as refusal:
            raise typer.BadParameter(refusal.sentence.rstrip(".")) from None

    read.__name__ = UNITS[unit].name or "number"
    return read


def clean(value: Any) -> Any:
    """Turn NaN and infinity into null, which JSON can say."""
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {k: clean(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [clean(v) for v in value]
    return value


def emit(
    name: str,
    as_json: bool,
    *,
    findings: Sequence[Finding] = (),
    estimates: dict[str, Estimate] | None = None,
    method: str | None = None,
    keys: dict[str, Any] | None = None,
    text: Sequence[str] = (),
) -> None:
    """Print one result, as JSON or for people, and leave with 1 if a finding of level stop stands.

    JSON is plain ASCII, so that any terminal shows it, and what a file says cannot steer one.
    """
    check_estimates(estimates or {})
    if as_json:
        data: dict[str, Any] = {"command": name}
        if estimates is not None:
            data["estimates"] = {k: e.as_dict() for k, e in estimates.items()}
        if method is not None:
            data["method"] = method
        data.update(keys or {})
        data["findings"] = [f.as_dict() for f in findings]
        print(json.dumps(clean(data), allow_nan=False))
    else:
        for key, e in (estimates or {}).items():
            print(estimate_line(key, e))
        for said in text:
            print(line(said))
        if method:
            print(line(f"Method: {method}."))
        for f in findings:
            print(line(f"{f.level.capitalize()}: {f.text}"))
    if any(f.level == "stop" for f in findings):
        raise typer.Exit(1)


def estimate_line(key: str, e: Estimate) -> str:
    """Return ``resistance  463.2 mΩ ±1.9 mΩ (0.41 %)``."""
    label = f"{key.replace('_', ' '):24}"
    if e.unit == "":
        shown, doubt = show_with_error(e.value, (e.high - e.low) / 2, "")
        return f"{label}{shown}  {doubt}".rstrip()
    if e.high > e.low and e.value:
        shown, doubt = show_with_error(e.value, (e.high - e.low) / 2, e.unit)
        return f"{label}{shown}  {doubt}"
    return f"{label}{show(e.value, e.unit, 4)}"
