"""``hot-anvil fleet``."""

import argparse

from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "on", metavar="ADDRESS",
        help="the address of a scheduler, such as tcp://10.0.0.1:8786, or a scheduler file",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Show the machines of a fleet; exit code 3 where no worker can be used."""
    from hot_anvil.fleets import join
    from hot_anvil.views.text.machines import fleet_report

    with join(args.on) as fleet:
        told = fleet.classes, fleet.offers, fleet.unusable
    out.answer(lambda: fleet_report(*told, out.width), lambda: document("fleet", "fleet", *told))
    return 0
