"""``hot-anvil ledger``."""

import argparse
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from hot_anvil.cli.options import add_named_builds, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.cli.plotting import Named, add_plot, write_figures

if TYPE_CHECKING:
    from hot_anvil.core.diff.ledger import Ledger

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to show (default: the grid)")
    add_plot(parser)
    parser.add_argument(
        "--only-differing", action="store_true", help="only lines that builds disagree on"
    )
    parser.add_argument(
        "--sort", choices=("source", "disagreement"), default="source",
        help="lines in the source's order, or those that builds disagree on most first",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Show many builds' instruction counts by source line."""
    from hot_anvil.views.text.ledger import ledger_report

    path, names = split_path(args.words)
    anvil = open_anvil(args, out, path)
    by_spread = args.sort == "disagreement"
    found = anvil.ledger(names, args.snippet, args.entry)
    ledgers = tuple(ledger.arranged(args.only_differing, by_spread) for ledger in found)
    out.answer(
        lambda: ledger_report(ledgers, out.width),
        lambda: document("ledger", "ledger", ledgers),
        lambda: table_rows(ledgers),
    )
    if args.plot:
        write_figures(args.plot, _figures(ledgers))
    return 0


def _figures(ledgers: "Sequence[Ledger]") -> list[Named]:
    from hot_anvil.views.plots.heat import draw_ledger

    return [(one.snippet, partial(draw_ledger, one)) for one in ledgers]
