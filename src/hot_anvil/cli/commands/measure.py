"""``hot-anvil measure``."""

import argparse

from hot_anvil.cli.answering import write_answer
from hot_anvil.cli.on_fleet import add_on, measure_on
from hot_anvil.cli.options import (
    add_measuring,
    count,
    fault_code,
    measure_options,
    open_to_measure,
    same_again,
)
from hot_anvil.cli.output import Output
from hot_anvil.cli.plotting import KINDS, add_plot, plot_answer

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_measuring(parser, "a candidate is told slower than its entry")
    add_plot(parser, KINDS["measure"])
    parser.add_argument(
        "--earlier", nargs="?", type=count, const=0, default=None, metavar="NUMBER",
        help="measure the code of an earlier measurement in the same rounds; without NUMBER (see "
        "'hot-anvil history') the last that was other code; '--fail-if-slower-than earlier' is "
        "then about it",
    )  # fmt: skip
    add_on(parser, weights=True)


def run(args: argparse.Namespace, out: Output) -> int:
    """Measure every correct candidate; exit code 1 when a snippet has none, or one is slower."""
    from hot_anvil.api import environment
    from hot_anvil.core.results.answers import Answer

    if args.on or args.weight:
        return measure_on(args, out, "measure")
    anvil = open_to_measure(args, out)
    if args.earlier is not None:
        anvil = anvil.beside_earlier(args.snippet, args.earlier)
    notes = () if args.imported else environment()
    measured = anvil.measure(args.snippet, measure_options(args), args.call_seconds)
    if not any(item.summaries for item in measured):
        notes = ()  # nothing was timed: nothing disturbed it
    limit = args.fail_if_slower_than
    slower = [row for item in measured for row in anvil.slower_than(item, limit)] if limit else []
    said = () if args.notes else anvil.kept.notes_said()
    answer = Answer("measure", measured, notes, said, tuple(slower), limit, asked=same_again(args))
    anvil.keep(answer)
    write_answer(answer, out)
    plot_answer(answer, args)
    faults = fault_code(item.checked for item in measured)
    told = all(item.overall or item.elsewhere for item in measured)
    return faults or int(not told or bool(slower))
