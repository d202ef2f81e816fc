"""``hot-anvil bench``."""

import argparse

from hot_anvil.cli.options import add_measuring, count, how_to_measure, open_to_measure
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_measuring(parser, "a candidate is told slower than its entry")
    parser.add_argument(
        "--beside", nargs="?", type=count, const=0, default=None, metavar="NUMBER",
        help="measure the code of an earlier measurement in the same rounds; without NUMBER (see "
        "'hot-anvil history') the last that was other code; '--fail-if-slower-than earlier' is "
        "then about it",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Measure every correct candidate; exit code 1 when a snippet has none, or one is slower."""
    from hot_anvil.core.measure.options import EARLIER
    from hot_anvil.system.measure.machine import environment_notes
    from hot_anvil.usecases.earlier_code import slower_than_earlier, take_earlier
    from hot_anvil.usecases.picking import slower_than
    from hot_anvil.views.text.measure import bench_sheet, slower_lines

    workshop = open_to_measure(args, out)
    if args.beside is not None:
        take_earlier(workshop, args.snippet, args.beside)
    notes = () if args.outside else environment_notes()
    measured = workshop.measure(args.snippet, how_to_measure(args), args.call_seconds)
    limit = args.fail_if_slower_than
    if limit == EARLIER:
        slower = [row for item in measured for row in slower_than_earlier(item)]
    else:
        slower = [row for item in measured for row in slower_than(workshop, item, limit)]
    out.answer(
        lambda: slower_lines(bench_sheet(measured, notes, out.width), slower, limit),
        lambda: document("bench", measured, notes, slower),
    )
    return 0 if all(item.overall for item in measured) and not slower else 1
