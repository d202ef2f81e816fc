"""``hot-anvil pins``."""

import argparse
from pathlib import Path

from hot_anvil.cli.options import add_bench, count, open_anvil, split_path
from hot_anvil.cli.output import Output, document

_CYCLES = 1_000_000


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [BUILD ...]",
        help="a bench, or one source with a main (default: this folder), then the builds to run",
    )  # fmt: skip
    add_bench(parser, path=False)
    parser.add_argument(
        "--pin", action="append", default=[], metavar="NAME",
        help="only this pin, such as PB5; may be repeated (default: all that change)",
    )  # fmt: skip
    parser.add_argument(
        "--cycles", type=count, default=_CYCLES, metavar="N",
        help=f"how long the chip runs (default: {_CYCLES:,})",
    )  # fmt: skip
    parser.add_argument(
        "--beside", type=Path, metavar="FILE",
        help="show a recording of an instrument beside: a value change dump, or a .csv with a "
        "column 'time' in seconds and one for each pin",
    )  # fmt: skip
    parser.add_argument(
        "--dump", type=Path, metavar="FILE",
        help="write the recording as a value change dump; for one build",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Record pins and show their periods; exit code 1 when none changed."""
    from hot_anvil.views.text.pins import pins_report

    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    found = anvil.pins(args.cycles, builds, args.snippet, args.pin, args.beside)
    if args.dump:
        anvil.dump_pins(found, args.dump)
    out.answer(
        lambda: pins_report(found, args.cycles, out.width),
        lambda: document("pins", "pins", found),
    )
    return 0 if any(r.traces for one in found for r in one.recordings) else 1
