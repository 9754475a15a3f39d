"""Entry point: a window for people, commands for everything else; and what happens when either ends as nobody planned."""

from __future__ import annotations

import gc
import os
import signal
import sys

#: What a program's own error ends with, and being stopped.
INTERNAL, STOPPED = 70, 130


def prepare() -> None:
    """Set what has to stand before anything is imported."""
    # the fits solve small systems: more threads of the linear algebra only wait for each other (twice the processor time, measured)
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    # what importing makes stays: looking through it for garbage, again and again, takes a quarter of a start (measured)
    gc.set_threshold(200_000, 20, 50)


def main() -> int:
    """Start what the arguments ask for and return the exit code; a reader that left early is no error."""
    prepare()
    asked: list[int] = []

    def stop(number: int, frame: object) -> None:
        asked.append(number)
        raise KeyboardInterrupt

    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, stop)
    try:
        code = _start()
        sys.stdout.flush()
    except BrokenPipeError:
        # what is still waiting to be written has nobody to read it
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KeyboardInterrupt:
        print("Stopped.", file=sys.stderr)
        return STOPPED
    except OSError as error:
        if error.filename is None and error.errno in (5, 28):  # the device that takes the output is full or gone
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            print(f"standard output: it cannot be written ({error.strerror}).", file=sys.stderr)
            return 2
        return _report(error)
    except Exception as error:
        return _report(error)
    return code


def _start() -> int:
    arguments = sys.argv[1:]
    first = arguments[0] if arguments else ""
    if first == "--version":
        from crisp_compass import __version__

        print(f"crisp-compass {__version__}")
        return 0
    completes = "_CRISP_COMPASS_COMPLETE" in os.environ  # a shell asks what may follow
    if not completes and (not arguments or first.endswith(".json")):
        from crisp_compass.app.main import main as window

        return window(arguments)
    from crisp_compass.commands import run

    return run(arguments)


def _report(error: Exception) -> int:
    """Say in one sentence that the program failed, and leave what is needed to mend it in a file."""
    from crisp_compass.reports import write_report

    place = write_report(error)
    said = f"the report lies in {place}" if place else "no report could be written"
    print(f"Crisp Compass has failed at this ({type(error).__name__}), which is an error of its own; {said}.", file=sys.stderr)
    return INTERNAL


if __name__ == "__main__":
    sys.exit(main())
