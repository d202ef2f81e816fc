"""``--on``: the same question on every class of machines of a fleet."""

import argparse
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from hot_anvil.cli.answering import answer_document
from hot_anvil.cli.options import open_anvil
from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.errors import MissingError, RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Anvil
    from hot_anvil.core.fleet.results import OnClass, OnFleet
    from hot_anvil.core.results.answers import Answer
    from hot_anvil.fleets import Fleet

Ask = Callable[["Fleet", "Anvil"], "OnFleet"]


def add_on(parser: argparse.ArgumentParser, weights: bool = False) -> None:
    """Add --on, and --weight where classes count differently."""
    parser.add_argument(
        "--on", metavar="ADDRESS", default="",
        help="on the machines of a fleet: the address of a scheduler, such as tcp://10.0.0.1:8786, "
        "or a scheduler file (docs/fleet.md)",
    )  # fmt: skip
    if weights:
        add_weight(parser)


def add_weight(parser: argparse.ArgumentParser) -> None:
    """Add --weight."""
    parser.add_argument(
        "--weight", action="append", default=[], metavar="CLASS=N",
        help="how much a class of machines counts in means over classes (default: 1); may be "
        "repeated",
    )  # fmt: skip


@contextmanager
def joined(args: argparse.Namespace, *only_here: str) -> "Iterator[Fleet]":
    """Give the fleet that the arguments name; options ``only_here`` must not be given with it."""
    for name in only_here:
        value = getattr(args, name.replace("-", "_"), None)
        if value not in (None, False, "", 0, [], ()):
            raise RequestError(f"--{name} is answered on this machine only: leave --on out.")
    from hot_anvil.fleets import join

    with join(args.on) as fleet:
        yield fleet


def ask_on(
    args: argparse.Namespace, out: Output, ask: Ask, path: str | None = None, *only_here: str
) -> "tuple[OnFleet, Anvil]":
    """Ask a fleet, keep what each class answers, and write all of it."""
    with joined(args, *only_here) as fleet:
        anvil = open_anvil(args, out, path, fleet.elsewhere)
        found = ask(fleet, anvil)
    kept = {one.own.name: _keep(anvil, found.command, one) for one in found.classes if one.results}
    from hot_anvil.views.text.fleet import on_fleet_report

    out.answer(
        lambda: on_fleet_report(found, out.width, kept),
        lambda: document("fleet", "on_fleet", found, kept, lambda one: _answered(found, one)),
        lambda: _rows(found.classes),
        lambda: _no_form(out.form),
    )
    return found, anvil


def _rows(classes: "Sequence[OnClass]") -> Iterator[Sequence[Any]]:
    """Give the rows of all classes, each with its class before it; the head first."""
    for number, one in enumerate(one for one in classes if one.results):
        head, *rest = table_rows(one.results)
        if not number:
            yield ["class", *head]
        yield from ([one.own.name, *row] for row in rest)


def _no_form(form: str) -> str:
    raise RequestError(f"--format {form}: it is for the verdicts of one machine; leave --on out.")


def _answer(command: str, one: "OnClass") -> "Answer":
    from hot_anvil.core.results.answers import KEPT, Answer

    known = next(name for name in KEPT if name == command)
    where = f"done on {', '.join(one.worked)}"
    return Answer(known, one.results, (where, *one.notes))


def _keep(anvil: "Anvil", command: str, one: "OnClass") -> int:
    return anvil.keep(_answer(command, one), one.own)


def _answered(found: "OnFleet", one: "OnClass") -> dict[str, Any]:
    return answer_document(_answer(found.command, one))


def missing_code(found: "OnFleet") -> int:
    """Return the exit code for classes that did not answer, 0 where all did."""
    return MissingError.exit_code if any(one.lacking for one in found.classes) else 0


def weights_of(args: argparse.Namespace, several: bool) -> dict[str, float]:
    """Return what each class counts; raises RequestError for what is no CLASS=N.

    ``several`` classes are asked about.
    """
    out = {}
    for text in args.weight:
        name, found, number = text.partition("=")
        try:
            out[name] = float(number)
        except ValueError:
            found = ""
        if not found or not name or not 0 < out[name] < 1e9:
            raise RequestError(f"--weight {text}: it is CLASS=N, such as xeon=3, N above 0.")
    if args.weight and not several:
        raise RequestError("--weight is for several classes of machines: this one is alone.")
    return out


def check_on(args: argparse.Namespace, out: Output, code_of: Callable[[Sequence[Any]], int]) -> int:
    """Check on a fleet; ``code_of`` gives the exit code of one machine's checks."""

    def ask(fleet: "Fleet", anvil: "Anvil") -> "OnFleet":
        return fleet.check(anvil, args.snippet, args.call_seconds, args.repeat)

    found, _ = ask_on(args, out, ask, None, "replay", "values", "reach", "plot")
    codes = [code_of(found.here), *(code_of(one.results) for one in found.classes if one.results)]
    return max(codes) or int(bool(found.differing)) or missing_code(found)


def measure_on(args: argparse.Namespace, out: Output, command: str) -> int:
    """Measure or pick on a fleet."""
    from hot_anvil.cli.options import fault_code, measure_options

    weights = weights_of(args, bool(args.on))

    def ask(fleet: "Fleet", anvil: "Anvil") -> "OnFleet":
        asked = args.snippet, measure_options(args), args.call_seconds, weights
        return getattr(fleet, command)(anvil, *asked)  # type: ignore[no-any-return]

    only_here = ("imported", "earlier", "explore", "fail-if-slower-than", "plot", "share")
    found, _ = ask_on(args, out, ask, None, *only_here)
    faults = fault_code(found.here)
    if command == "pick":
        told = all(choice.choice for choice in found.choices)
    else:
        told = all(choice.ranking for choice in found.choices)
    return faults or int(not found.choices or not told) or missing_code(found)


def fleet_notes(fleet: "Fleet", anvil: "Anvil") -> tuple[str, ...]:
    """Return where units were compiled, and which workers cannot be used."""
    from hot_anvil.views.text.machines import compiled_text

    told = compiled_text(fleet.compiled(anvil))
    unused = (f"worker {name} is not used: {why}" for name, why in fleet.unusable)
    return (*filter(None, [told]), *unused)
