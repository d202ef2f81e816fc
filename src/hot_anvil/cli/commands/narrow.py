"""``hot-anvil narrow``."""

import argparse

from hot_anvil.cli.options import (
    add_bench,
    add_entries,
    add_inputs,
    open_anvil,
    positive,
    split_path,
)
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] LEFT RIGHT",
        help="a bench or one source file (default: this folder), then two builds of one compiler",
    )  # fmt: skip
    add_bench(parser, path=False)
    add_inputs(parser, entry=False)
    add_entries(parser, "only this entry; may be repeated")
    parser.set_defaults(entry_filters=True)
    parser.add_argument(
        "--measure", action="store_true",
        help="also check and measure what each of the flags is worth in time",
    )  # fmt: skip
    parser.add_argument(
        "--seconds", type=positive, default=1.0, metavar="S",
        help="measure at most this long for each build and size (default: 1)",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Find the fewest flags that make the right build's code of the left build's."""
    from hot_anvil.core.measure.options import Options
    from hot_anvil.views.text.narrow import narrow_report

    path, names = split_path(args.words)
    anvil = open_anvil(args, out, path)
    builds = names or [build.name for build in anvil.builds]
    if len(builds) != 2:
        raise RequestError(
            f"narrow takes two builds, LEFT and RIGHT, after PATH; these are {len(builds)}. "
            f"The builds are: {listed(build.name for build in anvil.builds)}."
        )
    options = Options(args.seconds) if args.measure else None
    found = anvil.narrow(builds[0], builds[1], args.snippet, args.entry, options, args.call_seconds)
    out.answer(
        lambda: narrow_report(found, out.width),
        lambda: document("narrow", "narrow", found),
        lambda: table_rows(found),
    )
    return int(any(one.fault for one in found))
