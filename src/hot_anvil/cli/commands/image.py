"""``hot-anvil image``."""

import argparse

from hot_anvil.cli.options import add_named_builds, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.errors import RequestError

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to look into (default: the grid)")
    parser.add_argument(
        "--all", action="store_true", help="everything that has a size, not the biggest only"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Show where code and data end up."""
    from hot_anvil.views.text.image import image_report

    if args.entry:
        raise RequestError("--entry: an image is of whole snippets; choose one by --snippet NAME.")
    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    found = anvil.images(builds, args.snippet)
    out.answer(
        lambda: image_report(found, out.width, args.all),
        lambda: document("image", "image", found),
        lambda: table_rows(found),
    )
    return 0
