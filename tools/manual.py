"""Writes the man page and the shells' completions from the command line's own parser: manual.py FOLDER."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import typer.main
from typer.completion import get_completion_script

from crisp_compass import __version__
from crisp_compass.cli.main import app


def escaped(text: str) -> str:
    """Return a text for roff."""
    out = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join("\\&" + line if line.startswith((".", "'")) else line for line in out.splitlines())


def walk(command: Any, path: tuple[str, ...]) -> list[tuple[tuple[str, ...], Any]]:
    """Return every command below a group, with the words that call it."""
    if hasattr(command, "commands"):
        return [found for name in sorted(command.commands) for found in walk(command.commands[name], (*path, name))]
    return [] if command.hidden else [(path, command)]


def manual(root: Any) -> str:
    """Return the man page."""
    lines = [
        f'.TH CRISP\\-COMPASS 1 "" "Crisp Compass {__version__}" "User Commands"', ".SH NAME", "crisp\\-compass \\- the navigator of the motor bench", ".SH SYNOPSIS", ".B crisp\\-compass",
        "[BENCH] | COMMAND [OPTIONS]", ".SH DESCRIPTION", "Without a command the window opens. Figures are taken as people type them (20k, 980u); output goes to standard output, with \\-\\-json for programs.",
        ".SH COMMANDS",
    ]  # fmt: skip
    for path, command in walk(root, ()):
        arguments = " ".join((p.metavar or p.name or "").upper() for p in command.params if p.param_type_name == "argument")
        lines += [".TP", f".B {escaped(' '.join(path))} {escaped(arguments)}".rstrip(), escaped((command.help or "").strip().partition("\n\n")[0].replace("\n", " "))]
        for option in command.params:
            if option.param_type_name == "option" and not option.hidden:
                lines += [".RS", ".TP", f".B {escaped(', '.join(option.opts))}", escaped((option.help or "").replace("\n", " ") or "\\&"), ".RE"]
    lines += [".SH EXIT STATUS", "0 done; 1 done, but a finding of level stop stands; 2 bad input, with one line on standard error; 70 an error of the program itself; 130 stopped."]
    return "\n".join(lines) + "\n"


def main() -> None:
    """Write all of it into a folder."""
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "crisp-compass.1").write_text(manual(typer.main.get_command(app)), encoding="utf-8")
    for shell, name in (("bash", "crisp-compass.bash"), ("zsh", "_crisp-compass"), ("fish", "crisp-compass.fish")):
        script = get_completion_script(prog_name="crisp-compass", complete_var="_CRISP_COMPASS_COMPLETE", shell=shell)
        (folder / name).write_text(script + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
