"""``hot-anvil toolchains``."""

import argparse

from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "path", nargs="?", default="", metavar="PATH",
        help="a bench whose own toolchains are shown too",
    )  # fmt: skip
    parser.add_argument(
        "--trust", action="store_true", help="let this bench have compilers of its own run"
    )
    parser.add_argument(
        "--where", action="store_true",
        help="show instead where each toolchain and each default comes from",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Show the compilers of this machine; exit code 3 when there is none."""
    from hot_anvil.api import find_machine
    from hot_anvil.views.text.toolchains import toolchains_report, where_report

    found = find_machine(args.path, args.trust)
    if args.where:
        out.answer(
            lambda: where_report(found.places, out.width),
            lambda: document("toolchains", "places", found.places),
        )
        return 0
    shown = found.families, found.toolchains, found.silent
    out.answer(
        lambda: toolchains_report(*shown, found.lacking, out.width),
        lambda: document("toolchains", "toolchains", *shown[1:], found.lacking),
    )
    return 0 if found.toolchains else 3
