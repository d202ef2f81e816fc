"""Options that commands share, and opening what they name."""

import argparse
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from hot_anvil.core.arch import SYNTAXES
from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Workshop
    from hot_anvil.cli.output import Output
    from hot_anvil.core.code.records import Instruction
    from hot_anvil.core.measure.options import How


HELP_WIDTH = 90
_LIMITS = ("job_seconds", "job_memory")


class _Parser(argparse.ArgumentParser):
    """argparse, but its complaints look like all our errors."""

    def error(self, message: str) -> NoReturn:
        raise RequestError(f"{message}. See '{self.prog} --help'.")


def make_parser(
    command: str, what: str, forms: Sequence[str] = ("text", "json")
) -> argparse.ArgumentParser:
    """Return a command's parser with the options that every command has."""
    parser = _Parser(
        prog=f"hot-anvil {command}",
        description=f"{what[0].upper()}{what[1:]}.",
        allow_abbrev=False,
        # A width given spares looking for the terminal's, which loads a lot at every start.
        formatter_class=lambda prog: argparse.HelpFormatter(prog, width=HELP_WIDTH),
    )
    parser.add_argument(
        "--format", choices=forms, default="text", help="how to answer (default: text)"
    )
    parser.add_argument("--out", metavar="FILE", help="write the answer to a file")
    return parser


def add_bench(parser: argparse.ArgumentParser, path: bool = True) -> None:
    """Add PATH and what says the builds of a bare source."""
    if path:
        parser.add_argument(
            "path", nargs="?", default=".", metavar="PATH",
            help="a bench (a folder with anvil.toml) or one source file (default: this folder)",
        )  # fmt: skip
    parser.add_argument(
        "--build", action="append", default=[], metavar="'COMPILER FLAGS'",
        help="a build given in place, such as --build 'gcc -O2'; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--from", dest="project", metavar="FILE", default="",
        help="take includes, defines and other flags of the sources from a compile_commands.json",
    )  # fmt: skip
    parser.add_argument(
        "--jobs", type=count, metavar="N", help="compile this many at once (default: all cores)"
    )
    parser.add_argument(
        "--job-seconds", type=count, metavar="S",
        help="stop a compiler that takes longer (default: 300)",
    )  # fmt: skip
    parser.add_argument(
        "--job-memory",
        type=count,
        metavar="MB",
        help="memory for one compiler (default: no limit)",
    )
    parser.add_argument(
        "--snippet", action="append", default=[], metavar="NAME",
        help="only this snippet of the bench; may be repeated",
    )  # fmt: skip


def add_entries(parser: argparse.ArgumentParser, what: str) -> None:
    """Add --entry."""
    parser.add_argument("--entry", action="append", default=[], metavar="NAME", help=what)


def add_named_builds(parser: argparse.ArgumentParser, names: str, what: str) -> None:
    """Add PATH followed by builds to show, the bench's other options, and --entry."""
    parser.add_argument(
        "words", nargs="*", metavar=f"[PATH] {names}",
        help=f"a bench or one source file (default: this folder), then {what}",
    )  # fmt: skip
    add_bench(parser, path=False)
    add_entries(parser, "only this function; may be repeated")


def add_view(parser: argparse.ArgumentParser) -> None:
    """Add how code is shown: --view and --syntax."""
    parser.add_argument(
        "--view", choices=("emitted", "linked"), default="emitted",
        help="the compiler's own text, or the linked image with addresses and bytes",
    )  # fmt: skip
    parser.add_argument(
        "--syntax", choices=SYNTAXES, default=None,
        help="how code is written that knows both (default: att, or what your settings say)",
    )  # fmt: skip


def one_build(command: str, workshop: "Workshop", names: Sequence[str]) -> str:
    """Return the name of the one build that a command shows."""
    builds = workshop.plan.builds
    if len(names) > 1 or (not names and len(builds) > 1):
        raise RequestError(
            f"{command} shows one build: name it after PATH. "
            f"The builds are: {listed(build.name for build in builds)}."
        )
    return names[0] if names else builds[0].name


def add_words(parser: argparse.ArgumentParser) -> None:
    """Add --words."""
    parser.add_argument(
        "--words",
        dest="readings",
        action="store_true",
        help="a plain reading beside each instruction",
    )


def words_of(isa: str) -> "Callable[[Instruction], Instruction]":
    """Return what puts its plain reading beside an instruction."""
    from hot_anvil.system.toolchain.words import dictionary

    own = dictionary(isa)
    return lambda i: i._replace(words=own.read(i.mnemonic, i.operands) or "unknown")


def syntax_of(args: argparse.Namespace, workshop: "Workshop") -> str:
    """Return the syntax to write x86 in: the command line's, else the settings'."""
    return str(args.syntax or workshop.bench.defaults.get("syntax", "att"))


def split_path(words: list[str]) -> tuple[str, list[str]]:
    """Split PATH from the names after it; without a path that exists it is this folder."""
    if words and (os.path.lexists(words[0]) or "/" in words[0] or is_source(words[0])):
        return words[0], words[1:]
    return ".", words


def is_source(word: str) -> bool:
    """Tell whether a word is written like the name of a source file."""
    from hot_anvil.core.config.records import LANGUAGES

    return Path(word).suffix in LANGUAGES


def add_inputs(parser: argparse.ArgumentParser, entry: bool = True) -> None:
    """Add what says the values of a bare source's parameters, and limits of a run."""
    if entry:
        add_entries(parser, "an entry of a bare source; several are rivals (default: its only one)")
    parser.add_argument(
        "--inputs", action="append", default=[], metavar="TOML",
        help="a bare source's values, such as --inputs 'low = -200'; may be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--sweep", action="append", default=[], metavar="TOML",
        help="sizes to go through, such as --sweep 'n = [64, 4096]'",
    )  # fmt: skip
    parser.add_argument(
        "--not-promised", action="append", default=[], metavar="TOML",
        help="an edge that a bare source need not take, such as --not-promised 'empty = \"why\"'",
    )  # fmt: skip
    parser.add_argument(
        "--call-seconds", type=positive, default=5.0, metavar="S",
        help="a checked call that takes longer counts as hung (default: 5)",
    )  # fmt: skip


def add_measuring(parser: argparse.ArgumentParser, slower: str) -> None:
    """Add all that a measurement takes: bench, inputs, and how long to measure.

    ``slower`` says what must not be slower than the build that a person names.
    """
    add_bench(parser)
    add_inputs(parser)
    parser.add_argument(
        "--seconds", type=positive, default=1.0, metavar="S",
        help="at most this long for each candidate and size (default: 1)",
    )  # fmt: skip
    parser.add_argument(
        "--apart", action="store_true",
        help="a process of its own for every build, even where several could share one",
    )  # fmt: skip
    parser.add_argument(
        "--count", action="store_true",
        help="the exact number of instructions a call executes, counted under an emulator",
    )  # fmt: skip
    parser.add_argument(
        "--outside", metavar="FILE", default="",
        help="times that something else measured, as CSV (docs/measurement.md), in place of "
        "measuring here",
    )  # fmt: skip
    parser.add_argument(
        "--fail-if-slower-than", metavar="BUILD",
        help=f"exit code 1 when {slower} under this build",
    )  # fmt: skip
    parser.add_argument(
        "--seed", type=int, default=None, metavar="N",
        help="fix the random order of rounds and starts (default: drawn)",
    )  # fmt: skip


def count(text: str) -> int:
    if not text.isdigit() or not 0 < int(text) < 1 << 40:
        raise argparse.ArgumentTypeError(f"'{text}' is not a whole number above 0")
    return int(text)


def share(text: str) -> float:
    """Read a share above 0 and at most 1."""
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0 < value <= 1:
        raise argparse.ArgumentTypeError(f"'{text}' is not a share above 0 and at most 1")
    return value


def names_of(choices: Sequence[str]) -> Callable[[str], list[str]]:
    """Return what reads several of ``choices``, parted by commas, in the order given."""

    def read(text: str) -> list[str]:
        words = text.split(",")
        for word in words:
            if word not in choices or words.count(word) > 1:
                raise argparse.ArgumentTypeError(
                    f"'{text}' is no order of {listed(choices)}, parted by commas"
                )
        return words

    return read


def positive(text: str) -> float:
    """Read a number of seconds above 0."""
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0 < value < 1e6:
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of seconds above 0")
    return value


def open_workshop(args: argparse.Namespace, out: "Output", path: str | None = None) -> "Workshop":
    """Open the bench or source that the arguments name."""
    from hot_anvil.api import open_bench, open_source

    place = Path(path or args.path)
    entries = getattr(args, "entry", []) if hasattr(args, "inputs") else []
    if place.is_dir() or place.suffix == ".toml":
        only_bare = [o for o in ("inputs", "sweep", "not_promised") if getattr(args, o, [])]
        filters = getattr(args, "entry_filters", False)  # then it says what to show of a bench
        if only_bare or (entries and not filters):
            option = only_bare[0].replace("_", "-") if only_bare else "entry"
            raise RequestError(
                f"--{option} goes with one bare source file; {place} is a bench, whose anvil.toml "
                "says it."
            )
        workshop = open_bench(place, out.progress)
        if args.build:
            # The bench's reference is a build of its grid: the first of these takes its place.
            grid = workshop.bench.grid._replace(reference="", baseline="")
            workshop.bench = workshop.bench._replace(explicit=tuple(args.build), grid=grid)
        return _set_up(workshop, args)
    if not os.path.lexists(place):
        raise RequestError(f"{place}: there is no such file or folder.")
    inputs, sweep = getattr(args, "inputs", []), getattr(args, "sweep", [])
    ruled_out = getattr(args, "not_promised", [])
    made = open_source(place, args.build, entries, inputs, sweep, out.progress, ruled_out)
    return _set_up(made, args)


def how_to_measure(args: argparse.Namespace) -> "How":
    """Return what the arguments say of measuring."""
    from hot_anvil.core.measure.options import How

    prefer = tuple(getattr(args, "prefer", ()))
    return How(args.seconds, args.seed, args.apart, args.count, args.outside, prefer)


def open_to_measure(args: argparse.Namespace, out: "Output") -> "Workshop":
    """Open what the arguments name, with what they say of measuring."""
    from hot_anvil.core.measure.options import EARLIER

    workshop = open_workshop(args, out)
    if getattr(args, "share", None) is not None:
        snippets = tuple(s._replace(share=args.share) for s in workshop.bench.snippets)
        workshop.bench = workshop.bench._replace(snippets=snippets)
    earlier = getattr(args, "beside", None) is not None and args.fail_if_slower_than == EARLIER
    if args.fail_if_slower_than is not None and not earlier:
        workshop.build(args.fail_if_slower_than)  # a wrong name is told before anything runs
    if args.outside:
        from hot_anvil.usecases.imported_times import read_outside

        read_outside(args.outside)  # and so is a wrong file
    return workshop


def _set_up(workshop: "Workshop", args: argparse.Namespace) -> "Workshop":
    """Apply the options that say how to compile."""
    if args.project:
        from hot_anvil.system.bench.settings import with_project_flags

        workshop.bench = with_project_flags(workshop.bench, args.project)
    defaults = workshop.bench.defaults
    asked = {key: getattr(args, key) or defaults.get(key) for key in ("jobs", *_LIMITS)}
    workshop.limit(asked["jobs"], asked["job_seconds"], asked["job_memory"])
    return workshop
