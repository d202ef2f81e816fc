"""``hot-anvil explain``."""

import argparse

from hot_anvil.cli.options import add_bench, open_anvil
from hot_anvil.cli.output import Output, document
from hot_anvil.core.arch import names
from hot_anvil.errors import RequestError


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="MNEMONIC",
        help="the instructions to explain; with --used, the bench or source instead",
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
    told = [row for word in args.words for row in explain(word, args.target or "")]
    out.answer(
        lambda: explain_report(told, out.width), lambda: document("explain", "explain", told)
    )
    return 0


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
