"""``hot-anvil check``."""

import argparse

from hot_anvil.cli.options import add_bench, add_inputs, count, open_workshop
from hot_anvil.cli.output import Output, document
from hot_anvil.errors import RequestError


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)
    add_inputs(parser)
    parser.add_argument(
        "--repeat", type=count, default=2, metavar="N",
        help="call N times on each input set of the bench, to find races and the like (default: 2)",
    )  # fmt: skip
    parser.add_argument(
        "--again", metavar="NAME", default="",
        help="call one failing candidate once more on the small input set kept under this name",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Judge every candidate; exit code 1 when a snippet has no correct one."""
    from hot_anvil.core.verify.verdicts import CORRECT
    from hot_anvil.views.text.check import again_sheet, check_sheet

    if args.again and args.repeat != 2:
        raise RequestError("--repeat goes with a whole check, --again calls once.")
    workshop = open_workshop(args, out)
    if args.again:
        again = workshop.again(args.again, args.call_seconds)
        out.answer(lambda: again_sheet(again, out.width), lambda: document("again", again))
        return 0 if again.verdict == CORRECT else 1
    checks = workshop.check(args.snippet, args.call_seconds, args.repeat)
    out.answer(lambda: check_sheet(checks, args.path, out.width), lambda: document("check", checks))
    return 0 if all(checked.correct for checked in checks) else 1
