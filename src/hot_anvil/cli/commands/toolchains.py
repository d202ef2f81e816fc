"""``hot-anvil toolchains``."""

import argparse

from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options: it has none."""


def run(args: argparse.Namespace, out: Output) -> int:
    """Show the compilers of this machine; exit code 3 when there is none."""
    from hot_anvil.system.toolchains import find_toolchains
    from hot_anvil.views.toolchains import toolchains_sheet

    found = find_toolchains()
    out.answer(
        lambda: toolchains_sheet(found.families, found.toolchains, found.silent, out.width),
        lambda: document("toolchains", found.toolchains, found.silent),
    )
    return 0 if found.toolchains else 3
