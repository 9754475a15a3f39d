"""Prints the part of requirements.lock that the program runs with: its own dependencies, no tool of development."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def plain(name: str) -> str:
    """Return a project's name as packages compare it."""
    return re.sub(r"[-_.]+", "-", name).lower()


def main() -> None:
    """Print the lines."""
    wanted = {plain(re.split(r"[=<>!~; \[]", line, maxsplit=1)[0]) for line in tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"]}
    keeps = False
    for line in (ROOT / "requirements.lock").read_text().splitlines():
        if re.match(r"[A-Za-z0-9]", line):
            keeps = plain(re.split(r"[=<>!~; \[]", line, maxsplit=1)[0]) in wanted
        if keeps or (line.startswith("--") and not line.startswith("--hash")):
            print(line)


if __name__ == "__main__":
    main()
