"""``hot-anvil expect``."""

import argparse

from hot_anvil.cli.options import add_bench, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.facts.expectations import HELD

MORE_FORMS = ("csv", "junit")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [BUILD ...]",
        help="a bench or one source file (default: this folder), then the builds to check",
    )  # fmt: skip
    add_bench(parser, path=False)
    parser.add_argument("--all", action="store_true", help="also list what holds")


def run(args: argparse.Namespace, out: Output) -> int:
    """Check the bench's expectations; 1 if one does not hold."""
    from hot_anvil.views.text.expect import expect_report
    from hot_anvil.views.tools.junit import expect_junit

    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    found = anvil.expect(builds, args.snippet)
    file = anvil.bench.file
    out.answer(
        lambda: expect_report(found, file, out.width, args.all),
        lambda: document("expect", "expect", found, file),
        lambda: table_rows(found),
        lambda: expect_junit(found),
    )
    return 0 if all(o.state == HELD for one in found for o in one.outcomes) else 1
