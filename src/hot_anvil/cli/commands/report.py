"""``hot-anvil report``."""

import argparse

from hot_anvil.cli.options import add_bench, open_anvil, split_path
from hot_anvil.cli.output import Output

FORMS = ("page",)
NAME = "hot-anvil-report.html"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [BUILD ...]",
        help="a bench or one source file (default: this folder), then the builds whose "
        "instructions to show (default: up to 8, the baseline and the best first)",
    )  # fmt: skip
    add_bench(parser, path=False)
    parser.add_argument(
        "--fresh", action="store_true",
        help="first check, measure, choose and look for hotspots anew; without it nothing is "
        "measured, and the page says what is not there",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Write a page from what was done before."""
    from hot_anvil.api import open_kept
    from hot_anvil.core.results.pages import narrowed
    from hot_anvil.views.page.render import page_html

    path, builds = split_path(args.words)
    page = None if args.fresh else open_kept(path).page()
    if page:
        page = narrowed(page, builds, args.snippet)
    else:
        page = open_anvil(args, out, path).page(builds, args.snippet, args.fresh)
    out.progress("drawing the page", 0, 1)
    out.write_page(page_html(page), NAME)
    return 0
