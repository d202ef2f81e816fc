"""``hot-anvil diff``."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from hot_anvil.cli.options import (
    add_named_builds,
    add_view,
    add_words,
    is_source,
    open_anvil,
    split_path,
    syntax_of,
)
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.names import listed
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(
        parser, "LEFT RIGHT", "two builds, or two entries as ENTRY@BUILD, or a second source file"
    )
    add_view(parser)
    add_words(parser)
    parser.add_argument(
        "--before", nargs="?", type=int, const=1, metavar="N",
        help="what a build made of the source before its last edit (or N edits ago), and makes now",
    )  # fmt: skip
    parser.add_argument(
        "--all",
        action="store_true",
        help="everything: also the instructions of lines that are the same, and every line of a "
        "large file, of which else the functions that change most are shown",
    )
    parser.add_argument(
        "--context", type=int, default=3, metavar="N",
        help="show this many lines that are the same beside those that differ (default: 3)",
    )  # fmt: skip
    parser.add_argument("--lines", metavar="N[-M]", help="only these source lines, such as 12-20")
    parser.add_argument(
        "--state", metavar="STATE,..", help="only lines in these states, such as changed,gone"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Compare two sides by source line, with reasons."""
    from hot_anvil.views.text.diff import diff_report

    anvil, diffs = _compare(args, out)
    if args.lines or args.state:
        from hot_anvil.core.results.narrowing import only_rows

        diffs = tuple(only_rows(item, args.lines, args.state) for item in diffs)
    if args.readings:
        from hot_anvil.api import reading_for
        from hot_anvil.core.results.syntax import change_diff

        diffs = tuple(
            change_diff(item, reading_for(item.isa), reading_for(item.right_isa)) for item in diffs
        )
    syntax = syntax_of(args, anvil)
    if syntax:
        from hot_anvil.core.results.syntax import diff_in

        diffs = tuple(diff_in(syntax, item) for item in diffs)
    unnarrowed = not (args.all or args.entry or args.lines or args.state)
    out.answer(
        lambda: diff_report(diffs, out.width, args.all, max(args.context, 0), unnarrowed),
        lambda: document("diff", "diff", diffs),
        lambda: table_rows(diffs),
    )
    return 0


def _compare(args: argparse.Namespace, out: Output) -> "tuple[Anvil, tuple[SnippetDiff, ...]]":
    path, names = split_path(args.words)
    if names and not Path(path).is_dir() and (Path(names[0]).is_file() or is_source(names[0])):
        return _two_files(args, out, path, names)
    anvil = open_anvil(args, out, path)
    builds = anvil.builds
    if args.before is not None:
        return anvil, _before(args, anvil, names)
    if not names and len(builds) == 2:
        names = [build.name for build in builds]
    if len(names) != 2:
        raise RequestError(
            "diff compares two builds: name them after PATH, or give two with --build. "
            f"The builds are: {listed(build.name for build in builds)}."
        )
    return anvil, anvil.diff(names[0], names[1], args.snippet, args.entry, args.view)


def _before(args: argparse.Namespace, anvil: "Anvil", names: list[str]) -> tuple[SnippetDiff, ...]:
    builds = [build.name for build in anvil.builds]
    if len(names) > 1 or (not names and len(builds) != 1):
        raise RequestError(
            "--before compares one build with itself: name it after PATH. "
            f"The builds are: {listed(builds)}."
        )
    if args.before < 1:
        raise RequestError(f"--before {args.before}: give how many edits ago, from 1.")
    return anvil.diff_edit(names[0] if names else builds[0], args.before, args.snippet, args.entry)


def _two_files(
    args: argparse.Namespace, out: Output, path: str, names: list[str]
) -> "tuple[Anvil, tuple[SnippetDiff, ...]]":
    from hot_anvil.api import compare_sources

    sides = [open_anvil(args, out, file) for file in (path, names[0])]
    known = [build.name for build in sides[1].builds]
    builds = names[1:] or (known if len(args.build) in (1, 2) else [])
    if len(builds) not in (1, 2):
        raise RequestError(
            "Two files are compared under one build, or each under its own: say which with "
            f"--build, or name them after the files. The builds are: {listed(known)}."
        )
    return sides[1], compare_sources(sides[0], sides[1], (builds[0], builds[-1]), args.entry)
