"""``hot-anvil ledger``."""

import argparse

from hot_anvil.cli.options import add_named_builds, open_anvil, split_path
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to show (default: the grid)")
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
    ledgers = anvil.ledger(names, args.snippet, args.entry)
    by_spread = args.sort == "disagreement"
    ledgers = tuple(ledger.arranged(args.only_differing, by_spread) for ledger in ledgers)
    out.answer(
        lambda: ledger_report(ledgers, out.width), lambda: document("ledger", "ledger", ledgers)
    )
    return 0
