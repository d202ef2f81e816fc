"""Options that commands share, and opening what they name."""

import argparse
import os
import shlex
import sys
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from hot_anvil.core.arch import SYNTAXES
from hot_anvil.core.names import listed, visible
from hot_anvil.errors import RequestError, UntrustedError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil, Elsewhere
    from hot_anvil.cli.output import Output
    from hot_anvil.core.measure.options import Options
    from hot_anvil.core.verify.results import Checked


HELP_WIDTH = 90
FORMS = ("text", "markdown", "json")  # that every command can answer in


class _Parser(argparse.ArgumentParser):
    """argparse, but its complaints look like all our errors."""

    def error(self, message: str) -> NoReturn:
        raise RequestError(f"{message}. See '{self.prog} --help'.")


def make_parser(command: str, what: str, forms: Sequence[str] = FORMS) -> argparse.ArgumentParser:
    """Return a command's parser with the options that every command has."""
    parser = _Parser(
        prog=f"hot-anvil {command}",
        description=f"{what[0].upper()}{what[1:]}.",
        allow_abbrev=False,
        # A width given spares looking for the terminal's, which loads a lot at every start.
        formatter_class=lambda prog: argparse.HelpFormatter(prog, width=HELP_WIDTH),
    )
    parser.add_argument(
        "--format", choices=forms, default=forms[0], help=f"how to answer (default: {forms[0]})"
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
        "--trust", action="store_true",
        help="let this bench have programs run that it names: compilers, wrappers, plugins",
    )  # fmt: skip
    parser.add_argument(
        "--free", action="store_true",
        help="do not hold the code that runs: it may write files and reach the network",
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


def one_build(command: str, anvil: "Anvil", names: Sequence[str]) -> str:
    """Return the name of the one build that a command shows."""
    builds = anvil.builds
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


def syntax_of(args: argparse.Namespace, anvil: "Anvil") -> str:
    """Return the syntax to write code in, the command line's or the settings', "" for its own."""
    syntax = str(args.syntax or anvil.bench.defaults.get("syntax", SYNTAXES[0]))
    return "" if syntax == SYNTAXES[0] else syntax


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
        "--tolerance", action="append", default=[], metavar="TOML",
        help="how far a bare source's floats may be off, such as --tolerance 'ulp = 4'",
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
        "--cold", action="store_true",
        help="displace caches and branch predictors before each call",
    )  # fmt: skip
    parser.add_argument(
        "--count", action="store_true",
        help="the exact number of instructions a call executes, counted under an emulator",
    )  # fmt: skip
    parser.add_argument(
        "--imported", metavar="FILE", default="",
        help="times that something else measured, as CSV (docs/measurement.md), in place of "
        "measuring here",
    )  # fmt: skip
    add_notes(parser)
    parser.add_argument(
        "--fail-if-slower-than", metavar="BUILD",
        help=f"exit code 1 when {slower} under this build",
    )  # fmt: skip
    add_seed(parser)


def add_notes(parser: argparse.ArgumentParser) -> None:
    """Add --notes."""
    parser.add_argument(
        "--notes", action="store_true",
        help="all notes on this machine, also those that an earlier answer here has told",
    )  # fmt: skip


def add_seed(parser: argparse.ArgumentParser) -> None:
    """Add --seed."""
    parser.add_argument(
        "--seed", type=int, default=None, metavar="N",
        help="fix the random order of rounds and starts (default: drawn)",
    )  # fmt: skip


def count(text: str) -> int:
    if not text.isdigit() or not 0 < int(text) < 1 << 40:
        raise argparse.ArgumentTypeError(f"'{text}' is not a whole number above 0")
    return int(text)


def whole(text: str) -> int:
    """Read a whole number from 0."""
    if not text.isdigit() or int(text) >= 1 << 40:
        raise argparse.ArgumentTypeError(f"'{text}' is not a whole number")
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


def fault_code(checks: "Iterable[Checked]") -> int:
    """Return the exit code of the first snippet that could not be checked, 0 for none."""
    return next((checked.fault.exit_code for checked in checks if checked.fault), 0)


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


def open_anvil(
    args: argparse.Namespace,
    out: "Output",
    path: str | None = None,
    elsewhere: "Elsewhere | None" = None,
) -> "Anvil":
    """Open the bench or source that the arguments name; ``elsewhere`` adds other machines.

    A person at a terminal is asked whether to trust it, where it has programs run.
    """
    try:
        return _open(args, out, path, args.trust, elsewhere)
    except UntrustedError as error:
        if not (sys.stdin.isatty() and sys.stderr.isatty()):
            raise
        out.stop_progress()
        sys.stderr.write(f"{visible(str(error))}\nRun them? [y/N] ")
        sys.stderr.flush()
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            raise
        return _open(args, out, path, True, elsewhere)


def _open(
    args: argparse.Namespace,
    out: "Output",
    path: str | None,
    trust: bool,
    elsewhere: "Elsewhere | None",
) -> "Anvil":
    from hot_anvil.api import Limits, open_bench, open_source

    place = Path(path or args.path)
    memory = (args.job_memory or 0) << 20
    limits = Limits(args.jobs or 0, float(args.job_seconds or 0), memory, args.free)
    entries = getattr(args, "entry", []) if hasattr(args, "inputs") else []
    if place.is_dir() or place.suffix == ".toml":
        bare = ("inputs", "sweep", "not_promised", "tolerance")
        only_bare = [o for o in bare if getattr(args, o, [])]
        filters = getattr(args, "entry_filters", False)  # then it says what to show of a bench
        if only_bare or (entries and not filters):
            option = only_bare[0].replace("_", "-") if only_bare else "entry"
            raise RequestError(
                f"--{option} goes with one bare source file; {place} is a bench, whose anvil.toml "
                "says it."
            )
        progress, project = out.progress, args.project or ""
        return open_bench(place, args.build, limits, progress, project, trust, elsewhere)
    if not os.path.lexists(place):
        raise RequestError(f"{place}: there is no such file or folder.")
    return open_source(
        place,
        args.build,
        entries,
        getattr(args, "inputs", []),
        getattr(args, "sweep", []),
        getattr(args, "not_promised", []),
        limits,
        out.progress,
        args.project or "",
        getattr(args, "tolerance", []),
        trust,
        elsewhere,
    )


_SAID_AGAIN = ("build", "project", "entry", "inputs", "sweep", "not_promised", "tolerance")


def same_again(args: argparse.Namespace, path: str = "") -> str:
    """Return what follows a command's name to ask about the same code and values once more."""
    words = [path or args.path]
    for name in _SAID_AGAIN:
        given = getattr(args, name, None) or []
        option = {"project": "from"}.get(name, name).replace("_", "-")
        for value in [given] if isinstance(given, str) else given:
            words += [f"--{option}", value]
    return shlex.join(words)


def measure_options(args: argparse.Namespace) -> "Options":
    """Return what the arguments say of measuring."""
    from hot_anvil.core.measure.options import Options

    return Options(
        args.seconds,
        args.seed,
        args.apart,
        args.cold,
        args.count,
        args.imported,
        tuple(getattr(args, "prefer", ())),
        getattr(args, "share", None),
    )


def open_to_measure(args: argparse.Namespace, out: "Output") -> "Anvil":
    """Open what the arguments name; a wrong build to compare with is told before anything runs."""
    from hot_anvil.core.measure.options import EARLIER

    anvil = open_anvil(args, out)
    limit = args.fail_if_slower_than
    if limit is not None and not (limit == EARLIER and getattr(args, "earlier", None) is not None):
        anvil.build(limit)
    return anvil
