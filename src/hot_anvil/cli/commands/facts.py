"""``hot-anvil facts``."""

import argparse
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from hot_anvil.cli.options import add_named_builds, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.facts.records import FUNCTION_FACTS, LOOP_FACTS
from hot_anvil.core.facts.table import chosen
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.core.facts.table import SnippetFacts

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to look at (default: the grid)")
    parser.add_argument(
        "--fact", action="append", default=[], metavar="NAME",
        help="only this fact, such as 'per pass'; may be repeated; 'list' names them all",
    )  # fmt: skip
    parser.add_argument(
        "--all", action="store_true", help="also facts that are the same in every build, or nothing"
    )
    parser.add_argument(
        "--evidence", action="store_true", help="show the instructions behind each fact"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Show facts of many builds side by side."""
    from hot_anvil.views.text import facts as view

    known = dict.fromkeys([*FUNCTION_FACTS, *LOOP_FACTS])
    if "list" in args.fact:
        out.answer(lambda: view.names_report(out.width), lambda: document("facts", "names"))
        return 0
    names = [name.replace("_", " ") for name in args.fact]
    for name in names:
        if name not in known:
            hint = did_you_mean(name, known)
            raise RequestError(f"--fact '{name}': no such fact.{hint} They are: {listed(known)}.")
    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    found = anvil.facts(builds, args.snippet, args.entry)
    shown = [one._replace(table=chosen(one.table, names, args.all)) for one in found]
    out.answer(
        lambda: view.facts_report(shown, found, out.width, args.evidence, bool(names)),
        lambda: document("facts", "facts", found, names, args.evidence),
        lambda: _rows(found, names),
    )
    return 0


def _rows(found: "Sequence[SnippetFacts]", names: Sequence[str]) -> Iterable[Sequence[Any]]:
    """Return the rows of a table with those of facts in ``names`` only, all where none is named."""
    head, *rows = table_rows(found)
    fact = head.index("fact")
    return [head, *(row for row in rows if not names or row[fact] in names)]
