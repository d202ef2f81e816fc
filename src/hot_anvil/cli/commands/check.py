"""``hot-anvil check``."""

import argparse

from hot_anvil.cli.options import add_bench, add_inputs, open_workshop
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)
    add_inputs(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Judge every candidate; exit code 1 when a snippet has no correct one."""
    from hot_anvil.views.check import check_sheet

    checks = open_workshop(args, out).check(args.snippet, args.call_seconds)
    out.answer(lambda: check_sheet(checks, out.width), lambda: document("check", checks))
    return 0 if all(checked.correct for checked in checks) else 1
