"""``hot-anvil history``."""

import argparse
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from hot_anvil.cli.on_fleet import add_weight, weights_of
from hot_anvil.cli.options import count, split_path
from hot_anvil.cli.output import Output, csv_rows, document, table_rows
from hot_anvil.cli.plotting import Named, add_plot, write_figures

if TYPE_CHECKING:
    from hot_anvil.core.measure.history import State

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [CANDIDATE ...]",
        help="a bench or one source file (default: this folder), then candidates to show",
    )  # fmt: skip
    parser.add_argument(
        "--snippet", action="append", default=[], metavar="NAME",
        help="only this snippet; may be repeated",
    )  # fmt: skip
    add_plot(parser)
    parser.add_argument(
        "--compare", nargs="*", type=count, metavar="NUMBER",
        help="compare two measurements, before and after; without numbers the last of each "
        "snippet with the last before it whose code, compiler or machine was another",
    )  # fmt: skip

    parser.add_argument(
        "--merge", nargs="+", metavar="FILE", default=None,
        help="exports from other machines: which build to ship to all of them and to here",
    )  # fmt: skip
    add_weight(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Show what was measured over time, compare two measurements, or merge those of machines."""
    from hot_anvil.api import open_kept
    from hot_anvil.errors import RequestError
    from hot_anvil.views.text.history import compared_report, history_report

    path, candidates = split_path(args.words)
    kept = open_kept(path)
    weights = weights_of(args, args.merge is not None)
    if args.merge is not None:
        if args.compare is not None or args.plot or candidates:
            raise RequestError("--merge goes with --snippet and --weight only.")
        from hot_anvil.views.text.fleet import merged_report

        merged = kept.merge(args.merge, args.snippet, weights)
        out.answer(
            lambda: merged_report(merged, out.width),
            lambda: document("fleet", "merged", merged),
            lambda: csv_rows("fleet", merged.choices, kind="choice"),
        )
        return int(not all(choice.choice for choice in merged.choices))
    if args.compare is None:
        states = kept.history(args.snippet, candidates)
        heads = kept.heads(args.snippet)
        out.answer(
            lambda: history_report(states, candidates, heads, out.width),
            lambda: document("history", "history", states, candidates, heads),
            lambda: table_rows(states),
        )
        if args.plot:
            write_figures(args.plot, _figures(states, candidates))
        return 0
    if len(args.compare) not in (0, 2):
        raise RequestError("--compare takes two numbers, before and after, or none.")
    compared = kept.compare(args.snippet, candidates, args.compare)
    out.answer(
        lambda: compared_report(compared, candidates, out.width),
        lambda: document("history", "compared", compared),
        lambda: table_rows(compared),
    )
    return 0


def _figures(states: "Sequence[State]", candidates: Sequence[str]) -> list[Named]:
    from hot_anvil.views.plots.history import draw_history

    own = [
        s._replace(
            entries=tuple(e for e in s.entries if not candidates or e.candidate in candidates)
        )
        for s in states
    ]
    places = dict.fromkeys((s.snippet, s.inputs) for s in own)
    return [
        (f"{snippet} {inputs}".strip(), partial(draw_history, own, snippet, inputs))
        for snippet, inputs in places
    ]
