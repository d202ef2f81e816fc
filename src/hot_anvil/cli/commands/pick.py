"""``hot-anvil pick``."""

import argparse

from hot_anvil.cli.options import add_measuring, open_workshop
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_measuring(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Do the whole job; exit code 1 when a snippet has nothing correct to pick."""
    from hot_anvil.system.machine import environment_notes
    from hot_anvil.views.pick import pick_sheet

    notes = environment_notes()
    workshop = open_workshop(args, out)
    picked = workshop.pick(args.snippet, args.seconds, args.seed, args.call_seconds)
    out.answer(
        lambda: pick_sheet(picked, notes, out.width), lambda: document("pick", picked, notes)
    )
    return 0 if all(i.pick.choice or i.measured.checked.settled for i in picked) else 1
