"""``hot-anvil stages``."""

import argparse
import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from hot_anvil.cli.options import add_named_builds, one_build, open_anvil, split_path
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil
    from hot_anvil.core.stages.records import FunctionStages, Stage
    from hot_anvil.views.text.report import Report

MORE_FORMS = ("csv",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "[BUILD ...]", "the builds to look into (default: the grid)")
    parser.add_argument(
        "--follow", metavar="WHAT", default="",
        help="where something appears or goes: call, 'call NAME', allocation, copy, loop, "
        "'variable NAME', division, vector, load, store",
    )  # fmt: skip
    parser.add_argument(
        "--show", metavar="STAGE", default="",
        help="what a stage left, by source line: of one function with --entry, or of the whole "
        "source; under two builds their difference",
    )  # fmt: skip
    parser.add_argument(
        "--since", metavar="STAGE", default="", help="with --show: only what changed since this one"
    )
    parser.add_argument(
        "--pass", dest="step", metavar="STAGE", default="", help="what this pass changed"
    )
    parser.add_argument("--lines", metavar="N[-M]", help="only these source lines, such as 12-20")
    parser.add_argument(
        "--find", metavar="PATTERN", help="with --show: only what a regular expression finds"
    )
    parser.add_argument(
        "--all", action="store_true", help="also stages and lines at which no number changed"
    )


def run(args: argparse.Namespace, out: Output) -> int:
    """Show a compiler's forms between source and assembly."""
    _check(args)
    path, builds = split_path(args.words)
    anvil = open_anvil(args, out, path)
    if not args.entry:
        if args.show:
            return _whole(args, out, anvil, one_build("stages", anvil, builds))
        return _offered(args, out, anvil, builds)
    alone = "" if args.since else args.show
    found = anvil.stages(args.entry[0], builds, args.snippet, alone)
    if args.follow:
        return _follow(args, out, found)
    if args.show or args.step:
        return _show(args, out, found)
    from hot_anvil.views.text.stages import table_report

    out.answer(
        lambda: table_report(found, out.width, args.all),
        lambda: document("stages", "stages", found),
        lambda: table_rows(found),
    )
    return 0


def _check(args: argparse.Namespace) -> None:
    """Refuse what does not go together."""
    if len(args.entry) > 1:
        raise RequestError(f"--entry {args.entry[1]}: stages shows one function; give one --entry.")
    for option, needs in (("follow", "entry"), ("step", "entry"), ("since", "show")):
        if getattr(args, option) and not getattr(args, needs):
            name = {"step": "pass"}.get(option, option)
            value = {"entry": "NAME", "show": "STAGE"}[needs]
            raise RequestError(f"--{name}: say of which function or stage: add --{needs} {value}.")
    chosen = [f"--{name}" for name in ("follow", "show", "pass")
              if getattr(args, {"pass": "step"}.get(name, name))]  # fmt: skip
    if len(chosen) > 1:
        raise RequestError(f"{' and '.join(chosen)}: give one of them.")
    if args.find and not args.show:
        raise RequestError("--find: it looks through one stage: add --show STAGE.")


def _pattern(args: argparse.Namespace) -> "re.Pattern[str] | None":
    try:
        return re.compile(args.find) if args.find else None
    except re.error as error:
        raise RequestError(f"--find '{args.find}': no regular expression: {error}.") from None


def _lines(args: argparse.Namespace) -> tuple[int, int]:
    from hot_anvil.core.asm.filters import read_lines

    return read_lines(args.lines) if args.lines else (0, 0)


def _offered(args: argparse.Namespace, out: Output, anvil: "Anvil", builds: list[str]) -> int:
    from hot_anvil.views.text.stages import offered_report

    found = anvil.stages_offered(builds, args.snippet)
    out.answer(
        lambda: offered_report(found, out.width), lambda: document("stages", "offered", found)
    )
    return 0


def _whole(args: argparse.Namespace, out: Output, anvil: "Anvil", build: str) -> int:
    """Show a form of whole sources, part by part: it may be longer than memory."""
    from hot_anvil.views.json.stages import body_plain
    from hot_anvil.views.text.stages import body_report, text_report

    pattern, lines = _pattern(args), _lines(args)
    forms = anvil.whole_forms(build, args.show, args.snippet)
    sources = anvil.source_lines([form.source for form in forms])

    def reports() -> Iterator["Report"]:
        for form in forms:
            if form.is_text:
                yield from text_report(form, out.width, pattern)
            else:
                for body in form.functions:
                    yield body_report(body, "", sources, out.width, pattern, lines)

    def items() -> Iterator[dict[str, Any]]:
        for form in forms:
            for body in form.functions:
                yield {"source": form.source, **body_plain(body)}
            for text in form.lines:
                yield {"source": form.source, "text": text.rstrip("\n")}

    head = document("stages", "whole", build, args.show)
    name = "lines" if any(form.is_text for form in forms) else "functions"
    out.answer_stream(reports, lambda: head, name, items)
    return 0


def _follow(args: argparse.Namespace, out: Output, found: "Iterable[FunctionStages]") -> int:
    from hot_anvil.core.stages.following import follow, read_sought
    from hot_anvil.views.text.following import follow_report

    sought, lines = read_sought(args.follow), _lines(args)
    followed = [(one, follow(one.stages, sought, one.names, lines)) for one in found]
    out.answer(
        lambda: follow_report(followed, out.width, args.all),
        lambda: document("stages", "followed", followed),
    )
    return 0


def _stage(one: "FunctionStages", name: str) -> int:
    """Return the index of the stage of a name, that of the last state where it changed nothing."""
    for k, stage in enumerate(one.stages):
        if name == stage.name:
            return k
        if name in stage.passed:
            raise RequestError(
                f"{name}: under {one.build} this pass left {one.title} as it was; what stood there "
                f"is stage {one.stages[k - 1].name}."
                if k and not name.startswith("ipa-")
                else f"{name}: this pass of {one.build} leaves no form of a function behind; what "
                f"it did stands in the next one, {stage.name}."
            )
    known = [stage.name for stage in one.stages]
    raise RequestError(
        f"{name}: {one.title} has no such stage under {one.build}.{did_you_mean(name, known)} "
        f"It has: {listed(known, 40)}."
    )


def _show(args: argparse.Namespace, out: Output, found: "Iterable[FunctionStages]") -> int:
    from hot_anvil.core.stages.difference import compare_forms
    from hot_anvil.views.text.stages import body_report, difference_report

    pattern, lines = _pattern(args), _lines(args)
    shown = list(found)
    name = args.show or args.step
    stages = [one.stages[_stage(one, name)] for one in shown]
    pairs: list[tuple[FunctionStages, str, Stage, str, Stage]] = []
    if args.since or args.step:
        for one, stage in zip(shown, stages, strict=True):
            k = _stage(one, args.since) if args.since else _stage(one, name) - 1
            if k < 0:
                raise RequestError(
                    f"{name}: it is the first stage of {one.title} under {one.build}; there is "
                    "nothing before it."
                )
            before = one.stages[k]
            pairs.append((one, f"{one.build} {before.name}", before, stage.name, stage))
    elif len(shown) == 2:
        names = [f"{one.build} {stage.name}" for one, stage in zip(shown, stages, strict=True)]
        pairs.append((shown[1], names[0], stages[0], names[1], stages[1]))
    elif len(shown) > 2:
        raise RequestError(
            f"--show {name}: name one build, or two to see their difference. The builds are: "
            f"{listed(one.build for one in shown)}."
        )
    if pairs:
        compared = [
            (one, (left, right),
             compare_forms(a.body, c.body, one.title, {**shown[0].sources, **one.sources}))
            for one, left, a, right, c in pairs
        ]  # fmt: skip
        out.answer(
            lambda: difference_report(compared, out.width, args.all),
            lambda: document("stages", "difference", compared),
        )
        return 0
    one, stage = shown[0], stages[0]
    out.answer(
        lambda: body_report(
            stage.body, f"{one.title}  {one.build}  {stage.name}", one.sources, out.width, pattern,
            lines,
        ),
        lambda: document("stages", "body", one, stage),
    )  # fmt: skip
    return 0
