"""``hot-anvil check``."""

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.cli.answering import write_answer
from hot_anvil.cli.on_fleet import add_on, check_on
from hot_anvil.cli.options import (
    add_bench,
    add_inputs,
    count,
    fault_code,
    names_of,
    open_anvil,
    same_again,
)
from hot_anvil.cli.output import Output, document
from hot_anvil.cli.plotting import KINDS, add_plot, plot_answer
from hot_anvil.core.config.failing import FAILING
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.core.verify.results import Checked

MORE_FORMS = ("csv", "junit", "sarif")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)
    add_inputs(parser)
    add_plot(parser, KINDS["check"])
    parser.add_argument(
        "--repeat", type=count, default=2, metavar="N",
        help="call N times on each input set of the bench, to find races and the like (default: 2)",
    )  # fmt: skip
    parser.add_argument(
        "--reach", type=count, default=0, metavar="N",
        help="draw N more input sets, and check those that reach lines which no other does",
    )  # fmt: skip
    parser.add_argument(
        "--values", action="store_true",
        help="show what every candidate puts out for each input set of the bench",
    )  # fmt: skip
    parser.add_argument(
        "--accept", type=names_of(FAILING), default=[], metavar="VERDICT,...",
        help=f"failing verdicts that do not fail the check: {', '.join(FAILING)}",
    )  # fmt: skip
    parser.add_argument(
        "--replay", metavar="NAME", default="",
        help="call one failing candidate once more on the small input set kept under this name",
    )  # fmt: skip
    add_on(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Judge every candidate; exit code 1 when one fails, or a snippet has no correct one."""
    from hot_anvil.core.results.answers import Answer
    from hot_anvil.core.verify.verdicts import CORRECT
    from hot_anvil.views.text.check import replay_report

    if args.replay and args.repeat != 2:
        raise RequestError("--repeat goes with a whole check, --replay calls once.")
    if args.on:
        return check_on(
            args, out, lambda checks: fault_code(checks) or exit_code(checks, args.accept)
        )
    anvil = open_anvil(args, out)
    if args.replay:
        replay = anvil.replay(args.replay, args.call_seconds)
        out.answer(
            lambda: replay_report(replay, out.width), lambda: document("check", "replay", replay)
        )
        return 0 if replay.verdict == CORRECT else 1
    checks = anvil.check(args.snippet, args.call_seconds, args.repeat, args.values, args.reach)
    answer = Answer("check", checks, accept=tuple(args.accept), asked=same_again(args))
    anvil.keep(answer)
    write_answer(answer, out)
    plot_answer(answer, args)
    return fault_code(checks) or exit_code(checks, args.accept)


def exit_code(checks: "Sequence[Checked]", accept: "Sequence[str]") -> int:
    """Return 1 where a candidate fails in a way that neither bench nor request accepts."""
    for checked in checks:
        bad = [v for v in checked.verdicts if v.failing and v.verdict not in accept]
        fine = [v for v in checked.verdicts if v.usable or v.accepted or v.verdict in accept]
        if bad or not fine:
            return 1
    return 0
