"""``hot-anvil pick``."""

import argparse

from hot_anvil.cli.answering import write_answer
from hot_anvil.cli.on_fleet import add_on, measure_on
from hot_anvil.cli.options import (
    add_measuring,
    fault_code,
    measure_options,
    names_of,
    open_to_measure,
    same_again,
    share,
)
from hot_anvil.cli.output import Output
from hot_anvil.cli.plotting import KINDS, add_plot, plot_answer
from hot_anvil.errors import RequestError

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    from hot_anvil.core.measure.choosing import PREFERENCES

    add_measuring(parser, "the choice is told slower than")
    add_plot(parser, KINDS["pick"])
    parser.add_argument(
        "--explore", action="store_true",
        help="search many flag sets of the bench's compilers too: levels, standard levels of "
        "processors, flags that promise nothing",
    )  # fmt: skip
    parser.add_argument(
        "--share", type=share, metavar="S",
        help="the entry's share of a whole program's time, from 0 to 1: tells what the gain of the "
        "choice is worth",
    )  # fmt: skip
    parser.add_argument(
        "--prefer", type=names_of(PREFERENCES), default=[], metavar="WHAT,...",
        help="what decides among tied ones, first things first: code (bytes), portable (flags "
        "that do not ask for this CPU), compile (seconds)",
    )  # fmt: skip
    add_on(parser, weights=True)


def run(args: argparse.Namespace, out: Output) -> int:
    """Do the whole job; exit code 1 when a snippet has nothing correct to pick, or too slow."""
    from hot_anvil.api import environment
    from hot_anvil.core.results.answers import Answer

    if args.on or args.weight:
        return measure_on(args, out, "pick")
    anvil = open_to_measure(args, out)
    notes = () if args.imported else environment()
    if args.explore and args.imported:
        raise RequestError("--explore measures here: leave --imported out.")
    search = anvil.explore if args.explore else anvil.pick
    picked = search(args.snippet, measure_options(args), args.call_seconds)
    limit = args.fail_if_slower_than
    slower = [
        row
        for item in (picked if limit else ())
        for row in anvil.slower_than(item.measured, limit)
        if row.candidate == item.pick.choice
    ]
    said = () if args.notes else anvil.kept.notes_said()
    answer = Answer("pick", picked, notes, said, tuple(slower), limit, asked=same_again(args))
    anvil.keep(answer)
    write_answer(answer, out)
    plot_answer(answer, args)
    faults = fault_code(item.measured.checked for item in picked)
    chosen = [item.pick.choice or any(o.fewest for o in item.measured.elsewhere) for item in picked]
    return faults or int(not all(chosen) or bool(slower))
