"""``hot-anvil compile``."""

import argparse

from hot_anvil.cli.on_fleet import add_on, fleet_notes, joined
from hot_anvil.cli.options import add_bench, open_anvil
from hot_anvil.cli.output import Output, document, table_rows

MORE_FORMS = ("csv", "sarif")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_bench(parser)
    parser.add_argument(
        "--prove", action="store_true",
        help="also compile without our debug flag and prove that it changes no code",
    )  # fmt: skip
    add_on(parser)


def run(args: argparse.Namespace, out: Output) -> int:
    """Compile the grid; exit code 1 when every build is refused or a proof fails."""
    from hot_anvil.core.build.records import COMPILED
    from hot_anvil.core.proof.records import BROKEN
    from hot_anvil.views.text.compile import compile_report
    from hot_anvil.views.tools.sarif import compile_sarif

    notes: tuple[str, ...] = ()
    if args.on:
        with joined(args, "prove") as fleet:
            anvil = open_anvil(args, out, None, fleet.elsewhere)
            builds = anvil.compile(args.snippet)
            notes = fleet_notes(fleet, anvil)
    else:
        anvil = open_anvil(args, out)
        builds = anvil.compile(args.snippet)
    notes = (*anvil.notes, *notes)
    proofs = anvil.prove_debug(builds) if args.prove else {}
    files = {d.file for built in builds for d in built.diagnostics if d.line}
    sources = anvil.source_lines(sorted(files))
    out.answer(
        lambda: compile_report(builds, notes, proofs, sources, out.width),
        lambda: document("compile", "compile", builds, notes, proofs),
        lambda: table_rows(builds),
        lambda: compile_sarif(builds),
    )
    if any(proof.state == BROKEN for proof in proofs.values()):
        return 1
    return 0 if any(built.status == COMPILED for built in builds) else 1
