"""``hot-anvil launch``."""

import argparse

from hot_anvil.cli.options import add_inputs, add_named_builds, count, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.arch.ptx.device.schedule import SCHEDULERS

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(
        parser, "BUILD ...",
        "the builds to launch, or ENTRY@BUILD (default: all that make PTX)",
    )  # fmt: skip
    add_inputs(parser, entry=False)
    parser.set_defaults(entry_filters=True)
    parser.add_argument(
        "--size", default="", metavar="SIZE",
        help="the sweep's size to launch it with, such as n=4096 (default: the first)",
    )  # fmt: skip
    parser.add_argument(
        "--scheduler", action="append", choices=SCHEDULERS, default=[],
        help="how blocks go to multiprocessors; twice: beside each other (default: spread)",
    )  # fmt: skip
    parser.add_argument(
        "--processors", type=count, default=4, metavar="N",
        help="multiprocessors of the simulated device (default: 4)",
    )  # fmt: skip
    parser.add_argument(
        "--machine", action="store_true",
        help="the real machine's code beside, where its assembler and disassembler are",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Launch kernels and show what they did; exit code 1 where one does not end well, or races."""
    from hot_anvil.views.text.launch import launch_report

    path, names = split_path(args.words)
    anvil = open_anvil(args, out, path)
    schedulers = list(dict.fromkeys(args.scheduler)) or [SCHEDULERS[0]]
    found = anvil.launch(
        names, args.snippet, args.entry, args.size, schedulers, args.processors, args.machine
    )
    sources = anvil.source_lines(sorted({row.file for one in found for row in one.lines} - {""}))
    out.answer(
        lambda: launch_report(found, sources, out.width),
        lambda: document("launch", "launch", found),
        lambda: table_rows(found),
    )
    return int(any(one.ending != "returned" or one.races for one in found))
