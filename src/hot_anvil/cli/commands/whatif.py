"""``hot-anvil whatif``."""

import argparse
from pathlib import Path

from hot_anvil.cli.answering import write_answer
from hot_anvil.cli.on_fleet import add_on, ask_on, missing_code
from hot_anvil.cli.options import (
    add_bench,
    add_entries,
    add_inputs,
    add_notes,
    add_seed,
    one_build,
    open_anvil,
    positive,
    same_again,
    split_path,
)
from hot_anvil.cli.output import Output
from hot_anvil.core.experiments.records import SECONDS
from hot_anvil.errors import RequestError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from hot_anvil.api import Anvil
    from hot_anvil.core.experiments.results import WhatIf
    from hot_anvil.core.fleet.results import OnFleet
    from hot_anvil.fleets import Fleet

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [BUILD]",
        help="a bench or one source file (default: this folder), then the build to start from, or "
        "ENTRY@BUILD",
    )  # fmt: skip
    add_bench(parser, path=False)
    add_inputs(parser, entry=False)
    add_entries(parser, "only this entry; may be repeated")
    parser.set_defaults(entry_filters=True)
    parser.add_argument(
        "--seconds", type=positive, default=SECONDS, metavar="S",
        help="measure for about this long for each entry, all experiments together (default: 20)",
    )  # fmt: skip
    add_seed(parser)
    add_notes(parser)
    parser.add_argument(
        "--patch", metavar="FILE",
        help="write the edit that gains most, as a unified diff, or that named by --take",
    )  # fmt: skip
    parser.add_argument("--take", metavar="NAME", help="the experiment whose edit --patch writes")
    add_on(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Try what may help; exit code 1 when --patch finds no edit to write."""
    from hot_anvil.api import environment
    from hot_anvil.core.results.answers import Answer

    path, names = split_path(args.words)
    if args.take and not args.patch:
        raise RequestError("--take names the experiment whose edit --patch FILE writes; give both.")
    if args.on:
        return _on_fleet(args, out, path, names)
    anvil = open_anvil(args, out, path)
    names = [_without_entry(name, anvil, args) for name in names]
    build = one_build("whatif", anvil, names)
    found = anvil.whatif(
        build, args.snippet, args.entry, args.seconds, args.seed, args.call_seconds
    )
    notes = environment()
    said = () if args.notes else anvil.kept.notes_said()
    answer = Answer("whatif", found, notes, said, asked=same_again(args, path))
    anvil.keep(answer)
    write_answer(answer, out)
    if any(one.interrupted for one in found):
        return 130
    return _write_patch(args, found) if args.patch else 0


def _on_fleet(args: argparse.Namespace, out: Output, path: str, names: "Sequence[str]") -> int:
    def ask(fleet: "Fleet", anvil: "Anvil") -> "OnFleet":
        build = one_build("whatif", anvil, [_without_entry(name, anvil, args) for name in names])
        asked = args.snippet, args.entry, args.seconds, args.seed, args.call_seconds
        return fleet.whatif(anvil, build, *asked)

    found, _ = ask_on(args, out, ask, path, "patch", "take")
    interrupted = any(tried.interrupted for one in found.classes for tried in one.results)
    return 130 if interrupted else missing_code(found)


def _without_entry(name: str, anvil: "Anvil", args: argparse.Namespace) -> str:
    """Return the build of ENTRY@BUILD, which then is the entry asked for; a build as it is."""
    toolchains = {build.toolchain for build in anvil.builds}
    entry, at, build = name.partition("@")
    if not at or entry in toolchains:
        return name
    args.entry.append(entry)
    return build


def _write_patch(args: argparse.Namespace, found: "Sequence[WhatIf]") -> int:
    rows = [tried for one in found for tried in one.tried if tried.patch]
    if args.take:
        rows = [tried for tried in rows if tried.experiment.name == args.take]
        if not rows:
            raise RequestError(f"--take '{args.take}': no experiment with an edit is called so.")
    else:
        rows = [tried for tried in rows if tried.gain]
    if not rows:
        return 1
    try:
        Path(args.patch).write_text(rows[0].patch, errors="surrogateescape")
    except OSError as error:
        raise RequestError(f"--patch {args.patch}: cannot be written ({error.strerror}).") from None
    return 0
