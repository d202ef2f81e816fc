"""``hot-anvil calls``."""

import argparse

from hot_anvil.cli.options import add_named_builds, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to look into (default: the grid)")
    parser.add_argument("--lines", metavar="N[-M]", help="only these source lines, such as 12-20")


def run(args: argparse.Namespace, out: Output) -> int:
    """Show what C++ lines call, and what is left of it."""
    from hot_anvil.core.asm.filters import read_lines
    from hot_anvil.views.text.calls import calls_report

    path, builds = split_path(args.words)
    lines = read_lines(args.lines) if args.lines else (0, 0)
    anvil = open_anvil(args, out, path)
    found = anvil.calls(builds, args.snippet, args.entry)
    out.answer(
        lambda: calls_report(found, out.width, lines),
        lambda: document("calls", "calls", found),
        lambda: table_rows(found),
    )
    return 0
