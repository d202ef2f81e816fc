"""``hot-anvil hotspots``."""

import argparse

from hot_anvil.cli.answering import write_answer
from hot_anvil.cli.options import (
    add_inputs,
    add_named_builds,
    open_anvil,
    positive,
    same_again,
    split_path,
)
from hot_anvil.cli.output import Output
from hot_anvil.cli.plotting import KINDS, add_plot, plot_answer

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to look at (default: the grid)")
    add_inputs(parser, entry=False)
    add_plot(parser, KINDS["hotspots"])
    parser.set_defaults(entry_filters=True)
    parser.add_argument(
        "--at", default="", metavar="SIZE",
        help="the size to look at, such as n=4096 (default: the sweep's last)",
    )  # fmt: skip
    parser.add_argument(
        "--seconds", type=positive, default=1.0, metavar="S",
        help="how long to look at each candidate (default: 1)",
    )  # fmt: skip
    parser.add_argument(
        "--all", action="store_true", help="also lines and instructions that take next to nothing"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Show where the time goes."""
    from hot_anvil.core.results.answers import Answer

    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    found = anvil.hotspots(builds, args.snippet, args.entry, args.at, args.seconds)
    files = {line.file for hot in found for one in hot.candidates for line in one.lines}
    sources = anvil.source_lines(sorted(files))
    answer = Answer("hotspots", found, asked=same_again(args, path), sources=sources)
    anvil.keep(answer)
    write_answer(answer, out, args.all)
    plot_answer(answer, args)
    return 0 if any(hot.candidates for hot in found) else 1
