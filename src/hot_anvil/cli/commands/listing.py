"""``hot-anvil listing``."""

import argparse

from hot_anvil.cli.options import add_named_builds, open_workshop, split_path
from hot_anvil.cli.output import Output, document
from hot_anvil.core.errors import RequestError
from hot_anvil.core.names import listed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "BUILD", "the build to show")


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
