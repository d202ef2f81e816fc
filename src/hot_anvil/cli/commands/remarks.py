"""``hot-anvil remarks``."""

import argparse

from hot_anvil.cli.options import add_named_builds, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.remarks.records import ABOUT, KINDS
from hot_anvil.errors import RequestError

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to ask (default: the grid)")
    parser.add_argument(
        "--kind", action="append", default=[], choices=KINDS,
        help="only what was done, what was missed, or how it was analysed; may be repeated "
        "(default: done and missed)",
    )  # fmt: skip
    parser.add_argument(
        "--about", action="append", default=[], metavar="TOPIC",
        help=f"only remarks about this: {listed(ABOUT)}; may be repeated",
    )  # fmt: skip
    parser.add_argument("--lines", metavar="N[-M]", help="only these source lines, such as 12-20")
    parser.add_argument(
        "--all", action="store_true",
        help="everything that the compilers wrote, steps of an analysis and empty records too",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Show what the compilers say they did, could not do, and why."""
    from hot_anvil.core.asm.filters import read_lines
    from hot_anvil.core.remarks.table import Wanted, by_line, narrowed, symbols_named
    from hot_anvil.views.text.remarks import remarks_report

    for topic in args.about:
        if topic not in ABOUT:
            hint = did_you_mean(topic, ABOUT)
            raise RequestError(
                f"--about '{topic}': remarks are about no such thing.{hint} They are about: "
                f"{listed(ABOUT)}."
            )
    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    found = anvil.remarks(builds, args.snippet)
    symbols = symbols_named(found, args.entry)
    spans = tuple(one.spans[s] for one in found for s in symbols if s in one.spans)
    first, last = read_lines(args.lines) if args.lines else (0, 0)
    wanted = Wanted(
        tuple(args.kind), tuple(args.about), symbols, spans, first, last, args.all
    )  # fmt: skip
    shown = [(one, *by_line(one, wanted)) for one in found]
    out.answer(
        lambda: remarks_report(shown, out.width),
        lambda: document("remarks", "remarks", shown),
        lambda: table_rows(narrowed(one, wanted) for one in found),
    )
    return 0
