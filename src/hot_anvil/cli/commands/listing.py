"""``hot-anvil listing``."""

import argparse
import sys
from typing import TYPE_CHECKING

from hot_anvil.cli.options import (
    add_named_builds,
    add_view,
    add_words,
    one_build,
    open_anvil,
    split_path,
    syntax_of,
)
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.names import visible
from hot_anvil.core.results.code import Listing
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "BUILD", "the build to show")
    add_view(parser)
    add_words(parser)
    parser.add_argument("--lines", metavar="N[-M]", help="only these source lines, such as 12-20")
    parser.add_argument(
        "--find", metavar="PATTERN",
        help="only instructions with this mnemonic, callee or address (a regular expression)",
    )  # fmt: skip
    parser.add_argument(
        "--hide", action="append", default=[], metavar="KIND",
        help="leave out: inlined, data, padding, compiler-made, frame, library; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--raw-names", action="store_true", help="symbols as they are in the object"
    )
    parser.add_argument(
        "--order", choices=("source", "address"), default="source",
        help="under each source line, or as it lies in memory, source lines beside (default: "
        "source)",
    )  # fmt: skip
    parser.add_argument(
        "--raw", action="store_true", help="the compiler's own text, untouched, of the whole source"
    )
    parser.add_argument("--into", metavar="NAME", help="the code of this library function instead")


def run(args: argparse.Namespace, out: Output) -> int:
    """Show one build's code by source line."""
    from hot_anvil.views.text.in_order import in_order_report
    from hot_anvil.views.text.listing import listing_report

    path, names = split_path(args.words)
    anvil = open_anvil(args, out, path)
    name = one_build("listing", anvil, names)
    if args.raw:
        return _raw(args, out, anvil, name)
    listings: tuple[Listing, ...]
    if args.into:
        listings = (anvil.library_listing(name, args.into),)
    else:
        listings = anvil.listing(name, args.snippet, args.entry, args.view)
    listings = tuple(_filtered(listing, args) for listing in listings)
    if args.readings:
        from hot_anvil.api import reading_for
        from hot_anvil.core.results.syntax import change_listing

        listings = tuple(change_listing(one, reading_for(one.isa)) for one in listings)
    syntax = syntax_of(args, anvil)
    if syntax:
        from hot_anvil.core.results.syntax import listing_in

        listings = tuple(listing_in(syntax, listing) for listing in listings)
    view = in_order_report if args.order == "address" else listing_report
    out.answer(
        lambda: view(listings, out.width, args.raw_names),
        lambda: document("listing", "listing", listings),
        lambda: table_rows(listings),
    )
    return 0


def _raw(args: argparse.Namespace, out: Output, anvil: "Anvil", build: str) -> int:
    """Write what the compiler wrote; what would change it goes with another view."""
    for option in ("lines", "find", "hide", "into", "entry", "readings", "syntax"):
        if getattr(args, option):
            name = {"readings": "words"}.get(option, option)
            raise RequestError(f"--{name}: --raw shows the text as it is; leave one of them out.")
    if args.view != "emitted":
        raise RequestError(f"--view {args.view}: --raw is of what the compiler emits.")
    texts = anvil.compiler_texts(build, args.snippet)
    for one in texts if len(texts) > 1 else ():
        sys.stderr.write(f"hot-anvil: {visible(one.source)} under {one.build}\n")
    out.answer_raw("".join(one.text for one in texts), lambda: document("listing", "raw", texts))
    return 0


def _filtered(listing: Listing, args: argparse.Namespace) -> Listing:
    if not (args.lines or args.find or args.hide):
        return listing
    from hot_anvil.core.asm import filters

    functions = listing.functions
    if args.hide:
        functions = filters.hide(functions, args.hide)
    if args.lines:
        functions = filters.only_lines(functions, args.lines)
    if args.find:
        functions = filters.find(functions, args.find, listing.isa)
    return listing._replace(functions=functions)
