"""``hot-anvil explain``."""

import argparse
from typing import TYPE_CHECKING

from hot_anvil.cli.options import add_bench, open_anvil
from hot_anvil.cli.output import Output, document
from hot_anvil.core.arch import names
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.core.results.words import Told


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="INSTRUCTION",
        help="the instructions to explain, each a mnemonic or a whole one in quotes, as compilers "
        "write it; with --used, the bench or source instead",
    )  # fmt: skip
    parser.add_argument(
        "--target", metavar="NAME",
        help=f"only this instruction set ({', '.join(names())}, or a target triple); default: "
        "all that have such an instruction",
    )  # fmt: skip
    parser.add_argument(
        "--used", metavar="BUILD", help="every instruction that this build uses, with its count"
    )
    add_bench(parser, path=False)


def run(args: argparse.Namespace, out: Output) -> int:
    """Say in words what instructions do."""
    return _used(args, out) if args.used else _explain(args, out)


def _explain(args: argparse.Namespace, out: Output) -> int:
    from hot_anvil.api import explain
    from hot_anvil.views.text.explain import explain_report

    if not args.words:
        raise RequestError("explain: name an instruction: hot-anvil explain MNEMONIC.")
    told: list[Told] = []
    unknown: list[RequestError] = []
    for word in args.words:
        try:
            told += explain(word, args.target or "")
        except RequestError as error:
            unknown.append(error)
    if unknown and not told:
        raise unknown[0]
    said = [str(error) for error in unknown]
    out.answer(
        lambda: explain_report(told, said, out.width),
        lambda: document("explain", "explain", told, said),
    )
    return RequestError.exit_code if unknown else 0


def _used(args: argparse.Namespace, out: Output) -> int:
    from hot_anvil.views.text.explain import used_report

    if len(args.words) > 1:
        raise RequestError("explain --used BUILD takes one bench or source, and no mnemonic.")
    anvil = open_anvil(args, out, args.words[0] if args.words else ".")
    rows = anvil.used(args.used, args.snippet)
    name = anvil.build(args.used).name
    out.answer(
        lambda: used_report(name, rows, out.width),
        lambda: document("explain", "used", name, rows),
    )
    return 0
