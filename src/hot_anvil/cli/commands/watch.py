"""``hot-anvil watch``."""

import argparse
import time
from typing import TYPE_CHECKING

from hot_anvil.cli.options import add_named_builds, count, open_anvil, split_path
from hot_anvil.cli.output import Output, document
from hot_anvil.errors import AnvilError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil
    from hot_anvil.core.results.looks import Look

_QUICK = 0.2  # seconds for each candidate and sweep point


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to watch (default: the grid)")
    parser.add_argument(
        "--check", action="store_true", help="also run the verdicts on what a save changed"
    )
    parser.add_argument(
        "--measure", action="store_true", help="also measure, quickly, what a save changed"
    )
    parser.add_argument(
        "--saves", type=count, metavar="N", default=0,
        help="stop after this many saves (default: go on until Ctrl-C)",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Recompile on every save, and show what it did to the code."""
    from hot_anvil.api import Watch

    path, builds = split_path(args.words)
    args.entry_filters = True
    anvil = open_anvil(args, out, path)
    watch = Watch(anvil, builds, args.snippet, args.entry)
    _tell(args, out, watch.anvil, watch.look(()))
    done = 0
    try:
        for files in watch.saves():
            try:
                if any(file.endswith(".toml") for file in files):
                    watch.anvil = open_anvil(args, out, path)
                looked = watch.look(files)
                _tell(args, out, watch.anvil, looked)
            except AnvilError as error:  # a bench file half edited: the next save mends it
                _trouble(out, files, error)
            done += 1
            if done == args.saves:
                break
    except KeyboardInterrupt:
        out.stop_progress()
    return 0


def _tell(args: argparse.Namespace, out: Output, anvil: "Anvil", looked: "Look") -> None:
    from hot_anvil.views.text.watch import look_report

    changed = sorted({one.built.snippet.name for one in looked.builds if one.diff is not None})
    when = time.strftime("%H:%M:%S")
    out.part(
        lambda: look_report(looked, when, out.width), lambda: document("watch", "look", looked)
    )
    if not changed:
        return
    if args.check or args.measure:
        from hot_anvil.views.text.watch import verdicts_report

        checks = anvil.check(changed)
        out.part(
            lambda: verdicts_report(checks, out.width),
            lambda: document("check", "check", checks),
        )
    if args.measure:
        from hot_anvil.api import Options
        from hot_anvil.cli.answering import answer_document
        from hot_anvil.core.results.answers import Answer
        from hot_anvil.views.text.answers import answer_report

        measured = anvil.measure(changed, Options(seconds=_QUICK))
        answer = Answer("measure", measured, (), ())
        out.part(lambda: answer_report(answer, out.width), lambda: answer_document(answer))


def _trouble(out: Output, files: tuple[str, ...], error: AnvilError) -> None:
    from hot_anvil.views.text.watch import trouble_report

    when = time.strftime("%H:%M:%S")
    told = str(error)
    out.part(
        lambda: trouble_report(files, told, when, out.width),
        lambda: document("watch", "trouble", files, told),
    )
