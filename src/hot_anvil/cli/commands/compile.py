"""``hot-anvil compile``."""

import argparse

from hot_anvil.cli.options import add_bench, open_session
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Compile the grid; exit code 1 when every build is refused."""
    from hot_anvil.core.built import COMPILED
    from hot_anvil.views.compile import compile_sheet

    session = open_session(args, out)
    builds = session.compile(args.snippet)
    plan = session.plan
    out.answer(
        lambda: compile_sheet(builds, plan.notes, out.width),
        lambda: document("compile", builds, plan),
    )
    return 0 if any(built.status == COMPILED for built in builds) else 1
