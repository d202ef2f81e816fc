"""``hot-anvil diff``."""

import argparse

from hot_anvil.cli.options import (
    add_named_builds,
    add_view,
    open_workshop,
    split_path,
    syntax_of,
)
from hot_anvil.cli.output import Output, document
from hot_anvil.core.errors import RequestError
from hot_anvil.core.names import listed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "LEFT RIGHT", "the two builds to compare")
    add_view(parser)
    parser.add_argument(
        "--all", action="store_true", help="also show the instructions of lines that are the same"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Compare two builds by source line."""
    from hot_anvil.views.diff import diff_sheet

    path, names = split_path(args.words)
    workshop = open_workshop(args, out, path)
    builds = workshop.plan.builds
    if not names and len(builds) == 2:
        names = [build.name for build in builds]
    if len(names) != 2:
        raise RequestError(
            "diff compares two builds: name them after PATH, or give two with --build. "
            f"The builds are: {listed(build.name for build in builds)}."
        )
    diffs = workshop.diff(names[0], names[1], args.snippet, args.entry, args.view)
    if syntax_of(args, workshop) == "intel":
        from hot_anvil.core.respell import diff_in_intel

        diffs = tuple(diff_in_intel(item) for item in diffs)
    out.answer(lambda: diff_sheet(diffs, out.width, args.all), lambda: document("diff", diffs))
    return 0
