"""``hot-anvil compile``."""

import argparse

from hot_anvil.cli.options import add_bench, open_workshop
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Compile the grid; exit code 1 when every build is refused."""
    from hot_anvil.core.built import COMPILED
    from hot_anvil.views.compile import compile_sheet

    workshop = open_workshop(args, out)
    builds = workshop.compile(args.snippet)
    plan = workshop.plan
    out.answer(
        lambda: compile_sheet(builds, plan.notes, out.width),
        lambda: document("compile", builds, plan),
    )
    return 0 if any(built.status == COMPILED for built in builds) else 1
