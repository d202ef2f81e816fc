"""``hot-anvil bench``."""

import argparse

from hot_anvil.cli.options import add_measuring, open_workshop
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_measuring(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Measure every correct candidate; exit code 1 when a snippet has none."""
    from hot_anvil.system.machine import environment_notes
    from hot_anvil.views.bench import bench_sheet

    notes = environment_notes()
    workshop = open_workshop(args, out)
    measured = workshop.measure(args.snippet, args.seconds, args.seed, args.call_seconds)
    out.answer(
        lambda: bench_sheet(measured, notes, out.width), lambda: document("bench", measured, notes)
    )
    return 0 if all(item.overall or item.checked.settled for item in measured) else 1
