"""The whole command line as one parser: for the shells' completion and the man page alone.

A command that runs makes the parser of its own only.
"""

import argparse

from hot_anvil.cli.main import COMMANDS
from hot_anvil.cli.running import command_parser

_FILES = ("words", "path", "file", "folder", "out", "plot", "project", "imported")


def whole_parser() -> argparse.ArgumentParser:
    """Return a parser with a subcommand for every command; ``complete`` marks what files are."""
    parser = argparse.ArgumentParser(
        prog="hot-anvil",
        description="Pick the fastest correct build of a small piece of native code.",
        epilog="Every command is explained, with an example, in docs/commands.",
    )
    parser.add_argument("--version", "-V", action="store_true", help="print the version")
    each = parser.add_subparsers(title="commands", metavar="COMMAND")
    for name, what in COMMANDS.items():
        made = command_parser(name, what)
        own = each.add_parser(
            name, help=what, description=made.description, parents=[made], add_help=False,
            conflict_handler="resolve",
        )  # fmt: skip
        for action in own._actions:
            if action.dest in _FILES:
                action.complete = "file"  # type: ignore[attr-defined]
    return parser
