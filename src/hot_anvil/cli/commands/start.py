"""``hot-anvil start``."""

import argparse
from pathlib import Path

from hot_anvil.cli.output import Output, document
from hot_anvil.errors import RequestError
from hot_anvil.views.text.start import start_report


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "sources", nargs="*", metavar="SOURCE",
        help="sources of one snippet; the bench is laid out in the folder of the first",
    )  # fmt: skip
    parser.add_argument(
        "--example", nargs="?", const="", metavar="NAME",
        help="lay out a shipped example; without NAME, list them",
    )  # fmt: skip
    parser.add_argument("--into", metavar="FOLDER", help="where an example goes (default: NAME)")


def run(args: argparse.Namespace, out: Output) -> int:
    """Lay out a bench, or list the examples."""
    if args.example is None and not args.sources:
        raise RequestError(
            "start needs the sources of a snippet, or --example NAME (without NAME it lists them)."
        )
    if args.example is not None and args.sources:
        raise RequestError("start takes sources or --example, not both.")
    if args.example == "":
        return _list(out)
    from hot_anvil.api import lay_out_example, start_bench

    if args.example:
        folder = Path(args.into or args.example)
        files = lay_out_example(args.example, folder)
    else:
        folder, files = start_bench(args.sources, out.progress)
    out.answer(
        lambda: start_report(str(folder), files, out.width),
        lambda: document("start", "start", str(folder), files),
    )
    return 0


def _list(out: Output) -> int:
    from hot_anvil.api import examples
    from hot_anvil.views.text.start import examples_report

    found = examples()
    out.answer(
        lambda: examples_report(found, out.width), lambda: document("start", "examples", found)
    )
    return 0
