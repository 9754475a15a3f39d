"""The command tree."""

from __future__ import annotations

import sys

import click
import typer

from crisp_compass.cli.bench import check, export, report, simulate
from crisp_compass.cli.identify import commutation, identify
from crisp_compass.cli.tune import tune

app = typer.Typer(
    name="crisp-compass",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
app.add_typer(identify, name="identify")
app.add_typer(commutation, name="commutation")
app.add_typer(tune, name="tune")
for function in (simulate, check, export, report):
    app.command()(function)


def run(arguments: list[str]) -> int:
    """Run one command; usage errors are one line on standard error and 2."""
    tree = typer.main.get_command(app)
    try:
        result = tree.main(arguments, prog_name="crisp-compass", standalone_mode=False)
        return int(result) if isinstance(result, int) else 0
    except typer.Exit as leave:
        return leave.exit_code
    except click.exceptions.Exit as leave:
        return leave.exit_code
    except click.UsageError as error:
        return _usage(error)
    except (click.Abort, KeyboardInterrupt):
        print("Stopped.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        return 0


def _usage(error: click.UsageError) -> int:
    option = ""
    if isinstance(error, click.BadParameter) and error.param is not None:
        option = (error.param.opts or [error.param.name or ""])[-1]
        option = option if option.startswith("-") else (error.param.human_readable_name or option)
    elif isinstance(error, click.NoSuchOption):
        option = error.option_name
    message = " ".join(error.format_message().split()).rstrip(".")
    print(f"{option + ': ' if option else ''}{message}. Try --help.", file=sys.stderr)
    return 2
