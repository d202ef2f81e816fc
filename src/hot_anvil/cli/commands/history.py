"""``hot-anvil history``."""

import argparse

from hot_anvil.cli.options import add_bench, count, open_workshop, split_path
from hot_anvil.cli.output import Output


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [CANDIDATE ...]",
        help="a bench or one source file (default: this folder), then candidates to show",
    )  # fmt: skip
    add_bench(parser, path=False)
    parser.add_argument(
        "--compare", nargs="*", type=count, metavar="NUMBER",
        help="compare two measurements, before and after; without numbers the last of each "
        "snippet with the last before it whose code, compiler or machine was another",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Show what was measured over time, or compare two measurements."""
    from hot_anvil.errors import RequestError
    from hot_anvil.usecases.history import compared_states, kept_states
    from hot_anvil.views.text import history as view

    path, candidates = split_path(args.words)
    workshop = open_workshop(args, out, path)
    states = kept_states(workshop, args.snippet, candidates)
    if args.compare is None:
        out.answer(
            lambda: view.history_sheet(states, candidates, out.width),
            lambda: view.history_document(states, candidates),
        )
        return 0
    if len(args.compare) not in (0, 2):
        raise RequestError("--compare takes two numbers, before and after, or none.")
    compared = compared_states(states, args.compare)
    out.answer(
        lambda: view.compared_sheet(compared, candidates, out.width),
        lambda: view.compared_document(compared),
    )
    return 0
