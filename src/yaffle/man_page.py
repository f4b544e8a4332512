"""The manual page, made from the command line itself: `python -m yaffle.man_page > docs/yaffle.1`."""

import sys
from typing import Any

import typer.main

from yaffle import __version__
from yaffle.cli import app


def _plain(text: str) -> str:
    return " ".join(text.split()).replace("\\", "\\\\").replace("-", "\\-")


def _options(command: Any) -> list[str]:
    lines = []
    for option in command.params:
        names = ", ".join([*option.opts, *option.secondary_opts])
        if option.param_type_name == "argument":
            names = option.name.upper()
        value = f" {option.metavar}" if option.metavar and option.param_type_name == "option" else ""
        lines += [".TP", f".B {_plain(names + value)}", _plain(getattr(option, "help", "") or "")]
    return lines


def page() -> str:
    """The page as troff, without a date: it changes with the commands only."""
    group: Any = typer.main.get_command(app)
    lines = [
        f'.TH YAFFLE 1 "" "yaffle {__version__}" "User commands"',
        ".SH NAME",
        "yaffle \\- network performance analysis: whose delay is it, and the evidence",
        ".SH SYNOPSIS",
        ".B yaffle",
        "[FILE|CASE ...]",
        ".br",
        ".B yaffle",
        "COMMAND [ARGUMENTS]",
        ".SH DESCRIPTION",
        "Without a command the window opens, on the files if some are named.",
        ".SH COMMANDS",
    ]
    for name, command in sorted(group.commands.items()):
        lines += [f".SS yaffle {_plain(name)}", _plain(command.help or ""), *_options(command)]
    lines += [
        ".SH EXIT STATUS",
        "0 where all went well, 2 where something is wrong with the input or the arguments, 130 where it was stopped.",
        ".SH FILES",
        ".TP",
        ".I ~/.config/yaffle",
        "Preferences and the arrangement of tables.",
        ".TP",
        ".I ~/.cache/yaffle",
        "Compiled kernels; they can be deleted.",
        ".TP",
        ".I ~/.local/state/yaffle/log/yaffle.log",
        "What went wrong inside.",
    ]
    return "\n".join(line for line in lines if line) + "\n"


if __name__ == "__main__":
    sys.stdout.write(page())
