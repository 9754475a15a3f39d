"""Entry point: a window for people, commands for everything else."""

from __future__ import annotations

import sys


def main() -> int:
    """Start what the arguments ask for and return the exit code; a reader that left early is no error."""
    try:
        return _start()
    except BrokenPipeError:
        sys.stderr.close()
        return 0


def _start() -> int:
    arguments = sys.argv[1:]
    first = arguments[0] if arguments else ""
    if first == "--version":
        from crisp_compass import __version__

        print(f"crisp-compass {__version__}")
        return 0
    if not arguments or first.endswith(".json"):
        from crisp_compass.app.main import main as window

        return window(arguments)
    from crisp_compass.commands import run

    return run(arguments)


if __name__ == "__main__":
    sys.exit(main())
