"""``hot-anvil explain``."""

import argparse
from collections import Counter

from hot_anvil.cli.options import add_bench, open_workshop
from hot_anvil.cli.output import Output
from hot_anvil.core.arch import isa_name, names
from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError
from hot_anvil.system.toolchain.words import dictionary


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
    from hot_anvil.views.text import explain as view

    if not args.words:
        raise RequestError("explain: name an instruction: hot-anvil explain MNEMONIC.")
    isas = [_isa(args.target)] if args.target else list(names())
    told = []
    for word in args.words:
        found = [
            (dictionary(isa), one) for isa in isas for one in dictionary(isa).forms(word.lower())
        ]
        if not found:
            known = listed(dictionary(isa).reference.name for isa in isas)
            raise RequestError(f"{word}: not in the reference of {known}: unknown here.")
        told += [(word.lower(), own, one) for own, one in found]
    out.answer(lambda: view.explain_sheet(told, out.width), lambda: view.explain_document(told))
    return 0


def _isa(target: str) -> str:
    known = list(names())
    plain = target.lower().replace("-64", "")
    isa = plain if plain in known else isa_name(target)
    if isa not in known:
        raise RequestError(f"--target {target}: no such instruction set; known: {listed(known)}.")
    return isa


def _used(args: argparse.Namespace, out: Output) -> int:
    from hot_anvil.views.text import explain as view

    if len(args.words) > 1:
        raise RequestError("explain --used BUILD takes one bench or source, and no mnemonic.")
    workshop = open_workshop(args, out, args.words[0] if args.words else ".")
    listings = workshop.listing(args.used, args.snippet)
    counts: Counter[tuple[str, str, int]] = Counter(
        (listing.isa, placed.instruction.mnemonic, len(placed.instruction.operands))
        for listing in listings
        for function in listing.functions
        for line in function.lines
        for placed in line.instructions
    )
    totals: Counter[tuple[str, str]] = Counter()
    usual: dict[tuple[str, str], int] = {}  # with how many operands it is written most often
    for (isa, mnemonic, operands), count in counts.most_common():
        totals[isa, mnemonic] += count
        usual.setdefault((isa, mnemonic), operands)
    rows = [
        (own, mnemonic, count, own.find(mnemonic, usual[isa, mnemonic]))
        for (isa, mnemonic), count in totals.most_common()
        for own in [dictionary(isa)]
    ]
    name = workshop.build(args.used).name
    out.answer(
        lambda: view.used_sheet(name, rows, out.width), lambda: view.used_document(name, rows)
    )
    return 0
