"""``hot-anvil show``."""

import argparse
import os
import sys
from datetime import datetime

from hot_anvil.cli.answering import write_answer
from hot_anvil.cli.options import is_source
from hot_anvil.cli.output import Output
from hot_anvil.cli.plotting import KINDS, add_plot, plot_answer
from hot_anvil.core.names import visible
from hot_anvil.errors import AnvilError, RequestError

MORE_FORMS = ("csv", "junit", "sarif", "page")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "words", nargs="*", metavar="[PATH] [NUMBER]",
        help="a bench or one source file (default: this folder), then which answer (default: the "
        "last)",
    )  # fmt: skip
    add_plot(parser, list(dict.fromkeys(kind for kinds in KINDS.values() for kind in kinds)))
    parser.add_argument(
        "--snippet", action="append", default=[], metavar="NAME",
        help="only what it says of this snippet; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--notes", action="store_true", help="all notes on the machine, also those said before it"
    )
    parser.add_argument(
        "--all", action="store_true", help="of hotspots also lines that take next to nothing"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Show an answer again, from what was kept alone: nothing is compiled, run or measured."""
    from hot_anvil.api import open_kept
    from hot_anvil.core.results.answers import snippet_of

    path, number = _path_and_number(args.words)
    kept = open_kept(path).answer(number)
    answer = kept.answer
    for name in args.snippet:
        if name not in answer.snippets:
            raise RequestError(
                f"--snippet {name}: answer {kept.number} is about {', '.join(answer.snippets)}."
            )
    if args.snippet:
        own = tuple(one for one in answer.results if snippet_of(one) in args.snippet)
        answer = answer._replace(results=own)
    if args.notes:
        answer = answer._replace(said=())
    when = datetime.fromtimestamp(kept.at).astimezone().strftime("%Y-%m-%d %H:%M")
    where = f"from {kept.origin}, made on" if kept.origin else "on"
    sys.stderr.write(
        f"hot-anvil: answer {kept.number}: {answer.command}, {when}, {visible(where)} "
        f"{visible(kept.machine_text)}\n"
    )
    try:
        if args.format == "page":
            from hot_anvil.views.page.render import answer_page, page_html

            title = f"{answer.command}, answer {kept.number}"
            page = answer_page(kept._replace(answer=answer), title)
            out.write_page(page_html(page), f"answer-{kept.number}.html")
        else:
            write_answer(answer, out, args.all)
        plot_answer(answer, args)
    except (AnvilError, BrokenPipeError):
        raise
    except Exception as error:
        if not kept.origin:
            raise
        raise RequestError(
            f"answer {kept.number} came from {kept.origin} and does not hold together "
            f"({type(error).__name__}: {error}), so it cannot be shown."
        ) from None
    return 0


def _path_and_number(words: list[str]) -> tuple[str, int]:
    path, rest = ".", list(words)
    if rest and (not rest[0].isdigit() or os.path.lexists(rest[0]) or is_source(rest[0])):
        path = rest.pop(0)
    if len(rest) > 1 or (rest and (not rest[0].isdigit() or not 0 < int(rest[0]) < 1 << 40)):
        raise RequestError(f"{' '.join(rest)}: give one number that 'hot-anvil history' lists.")
    return path, int(rest[0]) if rest else 0
