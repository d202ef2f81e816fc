"""``hot-anvil listing``."""

import argparse

from hot_anvil.cli.options import add_bench, add_entries, open_workshop
from hot_anvil.cli.output import Output, document
from hot_anvil.core.errors import RequestError
from hot_anvil.core.names import listed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] BUILD",
        help="a bench or one source file (default: this folder), then the build to show",
    )  # fmt: skip
    add_bench(parser, path=False)
    add_entries(parser, "only this function; may be repeated")


def run(args: argparse.Namespace, out: Output) -> int:
    """Show one build's code by source line."""
    from hot_anvil.views.listing import listing_sheet

    path, names = split_path(args.words)
    workshop = open_workshop(args, out, path)
    builds = workshop.plan.builds
    if len(names) > 1 or (not names and len(builds) > 1):
        raise RequestError(
            "listing shows one build: name it after PATH. "
            f"The builds are: {listed(build.name for build in builds)}."
        )
    name = names[0] if names else builds[0].name
    listings = workshop.listing(name, args.snippet, args.entry)
    out.answer(lambda: listing_sheet(listings, out.width), lambda: document("listing", listings))
    return 0


def split_path(words: list[str]) -> tuple[str, list[str]]:
    """Split PATH from the names after it; without a path that exists it is this folder."""
    import os.path

    if words and (os.path.lexists(words[0]) or "/" in words[0]):
        return words[0], words[1:]
    return ".", words
