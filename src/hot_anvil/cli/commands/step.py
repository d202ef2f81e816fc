"""``hot-anvil step``."""

import argparse
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from hot_anvil.cli.options import (
    add_inputs,
    add_named_builds,
    add_words,
    count,
    open_anvil,
    split_path,
    whole,
)
from hot_anvil.cli.output import Output, csv_rows, document
from hot_anvil.core.arch import SYNTAXES
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil
    from hot_anvil.core.trace.records import Stepped
    from hot_anvil.core.trace.selection import Choice
    from hot_anvil.views.text.step import Spell

MORE_FORMS = ("csv",)
_MOST_SIDES = 2
_OF_KERNELS = {
    "block": "of a kernel: the block to look into (default: 0)",
    "thread": "of a kernel: the thread of that block to follow (default: 0)",
    "warp": "of a kernel: follow all threads of this warp of that block",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(
        parser, "BUILD [BUILD]",
        "the build to step through, or ENTRY@BUILD; of two, up to where they first disagree",
    )  # fmt: skip
    add_inputs(parser, entry=False)
    parser.set_defaults(entry_filters=True)
    parser.add_argument(
        "--size", default="", metavar="SIZE",
        help="the sweep's size to call it with, such as n=4096 (default: the first)",
    )  # fmt: skip
    parser.add_argument(
        "--replay", default="", metavar="NAME",
        help="call it with the small input set that a check kept under this name; without builds: "
        "the reference and the candidate that failed",
    )  # fmt: skip
    parser.add_argument("--lines", action="store_true", help="source lines, without instructions")
    parser.add_argument(
        "--only-changes", action="store_true", help="only steps that set a variable or memory"
    )
    parser.add_argument(
        "--passes", default="", metavar="WHICH",
        help="only these passes of each loop: first, last or numbers, parted by commas",
    )  # fmt: skip
    parser.add_argument("--at", default="", metavar="LINE", help="only this line: 12 or file.c:12")
    parser.add_argument(
        "--watch", default="", metavar="VARIABLE", help="only steps that set this variable"
    )
    parser.add_argument(
        "--limit", type=count, default=200, metavar="N",
        help="show at most this many steps (default: 200)",
    )  # fmt: skip
    parser.add_argument(
        "--syntax", choices=SYNTAXES, default=None,
        help="how code is written that knows both (default: att, or what your settings say)",
    )  # fmt: skip
    add_words(parser)
    for name, what in _OF_KERNELS.items():
        parser.add_argument(f"--{name}", type=whole, default=None, metavar="N", help=what)
    parser.add_argument(
        "--interactive", action="store_true",
        help="on a terminal: move through the steps, forward and back, with a pager's keys",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Step through a call; exit code 1 where it does not come back."""
    from hot_anvil.views.text.step import step_report

    if args.interactive:
        from hot_anvil.cli.moving import refuse_without_terminal

        refuse_without_terminal()
    path, names = split_path(args.words)
    anvil = open_anvil(args, out, path)
    choice = _choice(args)
    if anvil.has_kernels(args.snippet, names):
        return _kernel(args, out, anvil, names, choice)
    given = [f"--{name}" for name in _OF_KERNELS if getattr(args, name) is not None]
    if given:
        raise RequestError(f"{given[0]} is for kernels, and this is none.")
    _refuse_many(names, args)
    entry = args.entry[0] if args.entry and not args.replay else ""
    found = anvil.step(names, args.snippet, entry, args.size, args.replay, args.call_seconds)
    if len(found) == _MOST_SIDES and args.interactive:
        raise RequestError("--interactive moves through one call: name one build.")
    if len(found) == _MOST_SIDES:
        return _both(args, out, anvil, found)
    (stepped,) = found
    spell = _spell(args, anvil, stepped)
    sources = anvil.source_lines(_files(stepped))
    if args.interactive:
        return _moving(out, stepped, sources, spell)
    # Of a call that ends badly the end is what counts.
    choice = choice._replace(end=stepped.ending == "crashed")
    told = anvil.tell_steps(stepped, choice)
    out.answer(
        lambda: step_report(told, choice, sources, spell, out.width, args.lines),
        lambda: document("step", "step", told, spell),
        lambda: csv_rows("step", told, spell),
    )
    return 0 if stepped.ending == "returned" else 1


def _kernel(
    args: argparse.Namespace, out: Output, anvil: "Anvil", names: list[str], choice: "Choice"
) -> int:
    """Show one thread or one warp of a kernel; exit code 1 where its launch does not end well."""
    from hot_anvil.core.arch.ptx import ISA
    from hot_anvil.core.kernels.told import chosen_of, told_moments
    from hot_anvil.views.text.threads import threads_report

    for name in ("replay", "passes", "interactive"):
        if getattr(args, name):
            raise RequestError(f"--{name} is for calls on a processor, not for kernels.")
    if len(names) != 1:
        raise RequestError("step follows a kernel under one build: name it after PATH.")
    if args.thread is not None and args.warp is not None:
        raise RequestError("--thread and --warp: give one of them.")
    steps = anvil.step_kernel(
        names[0], args.snippet, args.entry, args.size, args.block or 0, args.thread, args.warp
    )
    spell = _spelling(args, anvil, ISA)
    chosen = chosen_of(list(told_moments(steps)), choice)
    sources = anvil.source_lines(sorted({i.file for i in steps.instructions} - {""}))
    out.answer(
        lambda: threads_report(steps, chosen, choice.limit, sources, spell, out.width, args.lines),
        lambda: document("step", "threads", steps, chosen, choice.limit, spell),
        lambda: csv_rows("step", chosen[: choice.limit], spell, kind="thread"),
    )
    return int(steps.launch.ending != "returned")


def _moving(
    out: Output, stepped: "Stepped", sources: "Mapping[str, Sequence[str]]", spell: "Spell"
) -> int:
    from hot_anvil.cli.moving import move
    from hot_anvil.core.trace.viewing import Viewing
    from hot_anvil.views.text.report import Report
    from hot_anvil.views.text.step import heading

    report = Report(out.width)
    heading(report, stepped)
    out.stop_progress()
    out.show(report)
    move(Viewing(stepped), out, sources, spell)
    return 0 if stepped.ending == "returned" else 1


def _both(
    args: argparse.Namespace, out: Output, anvil: "Anvil", found: "tuple[Stepped, ...]"
) -> int:
    """Show where two candidates go apart; exit code 1 when they do."""
    from hot_anvil.core.trace.leading import leading_to
    from hot_anvil.core.trace.parting import Parting
    from hot_anvil.views.text.parting import parting_report

    left, right = found
    parting = anvil.part_steps(left, right)
    before = leading_to(left, right, parting, args.limit)
    spells = (_spell(args, anvil, left), _spell(args, anvil, right))
    sources = anvil.source_lines(sorted({*_files(left), *_files(right)}))
    out.answer(
        lambda: parting_report(found, parting, before, sources, spells, out.width, args.lines),
        lambda: document("step", "parting", found, parting, before, spells),
        lambda: csv_rows("step", before[0], spells[0], before[1], spells[1]),
    )
    return int(isinstance(parting, Parting))


def _refuse_many(names: list[str], args: argparse.Namespace) -> None:
    if len(args.entry) > 1 and not args.replay:
        raise RequestError("--entry: step goes through one call: name one entry.")
    if len(names) > _MOST_SIDES:
        raise RequestError(f"step takes one build, or two to compare; {len(names)} are named.")


def _choice(args: argparse.Namespace) -> "Choice":
    from hot_anvil.core.trace.selection import FIRST, LAST, Choice

    passes = tuple(args.passes.split(",")) if args.passes else ()
    for word in passes:
        if word not in (FIRST, LAST) and not (word.isdigit() and int(word)):
            raise RequestError(
                f"--passes {args.passes}: give first, last or numbers from 1, parted by commas."
            )
    file, _, line = args.at.rpartition(":")
    if args.at and not (line.isdigit() and int(line)):
        raise RequestError(f"--at {args.at}: give a source line, such as 12 or clamp.c:12.")
    at = (file, int(line)) if args.at else ("", 0)
    return Choice(passes, at, args.watch, args.only_changes, args.limit)


def _spell(args: argparse.Namespace, anvil: "Anvil", stepped: "Stepped") -> "Spell":
    return _spelling(args, anvil, stepped.map.isa)


def _spelling(args: argparse.Namespace, anvil: "Anvil", isa: str) -> "Spell":
    from hot_anvil.core.arch import syntax_of

    chosen = args.syntax or anvil.bench.defaults.get("syntax", SYNTAXES[0])
    change = syntax_of(isa).others.get(str(chosen))
    if not args.readings:
        return change or (lambda instruction: instruction)
    from hot_anvil.api import reading_for

    reading = reading_for(isa)
    return lambda one: change(reading(one)) if change else reading(one)


def _files(stepped: "Stepped") -> list[str]:
    return sorted({place.file for place in stepped.map.places.values() if place.file})
