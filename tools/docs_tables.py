"""Write the parts of docs/ that the code knows better: the keys of a bench, the API's records.

    python tools/docs_tables.py

A test compares what is there with what this would write.
"""

import inspect
import re
import sys
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from types import GenericAlias, ModuleType
from typing import Any

import hot_anvil.core.build.builds
import hot_anvil.core.build.records
import hot_anvil.core.code.records
import hot_anvil.core.diff.records
import hot_anvil.core.experiments.records
import hot_anvil.core.experiments.results
import hot_anvil.core.facts.records
import hot_anvil.core.flags.records
import hot_anvil.core.fleet.choosing
import hot_anvil.core.fleet.machines
import hot_anvil.core.fleet.results
import hot_anvil.core.fleet.spread
import hot_anvil.core.measure.choosing
import hot_anvil.core.measure.options
import hot_anvil.core.measure.results
import hot_anvil.core.measure.summary
import hot_anvil.core.proof.records
import hot_anvil.core.results.code
import hot_anvil.core.verify.results
import hot_anvil.core.verify.verdicts
from hot_anvil.api import Anvil, Limits
from hot_anvil.cli.main import COMMANDS
from hot_anvil.cli.running import command_parser
from hot_anvil.core.config.keys import KEYS

DOCS = Path(__file__).parent.parent / "docs"
BEGIN, END = "<!-- made by tools/docs_tables.py -->", "<!-- end -->"
# Where the records live that the API's calls return, in the order of the job.
RECORDS: tuple[ModuleType, ...] = (
    hot_anvil.core.build.builds,
    hot_anvil.core.build.records,
    hot_anvil.core.proof.records,
    hot_anvil.core.code.records,
    hot_anvil.core.results.code,
    hot_anvil.core.diff.records,
    hot_anvil.core.facts.records,
    hot_anvil.core.verify.verdicts,
    hot_anvil.core.verify.results,
    hot_anvil.core.measure.options,
    hot_anvil.core.measure.summary,
    hot_anvil.core.measure.choosing,
    hot_anvil.core.measure.results,
    hot_anvil.core.flags.records,
    hot_anvil.core.experiments.records,
    hot_anvil.core.experiments.results,
    hot_anvil.core.fleet.machines,
    hot_anvil.core.fleet.choosing,
    hot_anvil.core.fleet.spread,
    hot_anvil.core.fleet.results,
)
_HEADINGS = {"": "the file itself", "settings": "a settings file of your own", "input": "one value"}
_FIELD = re.compile(r"^    (\w+): ([^=#\n]+?)(?: = [^#\n]+)?(?:  # (.+))?$", re.M)


def keys_text() -> str:
    """Return the tables of a bench's keys."""
    out = []
    for table, keys in KEYS.items():
        out += [f"**{_HEADINGS.get(table, f'`{table}`')}**", "", "| key | takes | what it is |"]
        out += ["|---|---|---|"]
        out += [
            f"| `{key.name}` | {'' if key.form == 'any' else key.form} | {key.says} |"
            for key in keys
        ]
        out.append("")
    return "\n".join(out)


def calls_text() -> str:
    """Return the calls of the API's one class, with what they return."""
    rows = ["| call | returns | what it does |", "|---|---|---|"]
    for name, member in vars(Anvil).items():
        if name.startswith("_"):
            continue
        if isinstance(member, property):
            made, shown = member.fget.__annotations__["return"], name
        else:
            made, shown = member.__annotations__["return"], f"{name}({_parameters(member)})"
        says = inspect.cleandoc(member.__doc__ or "").split("\n\n")[0].replace("\n", " ")
        rows.append(f"| `{shown}` | `{_plain(made)}` | {says} |")
    return "\n".join(rows) + "\n"


def records_text() -> str:
    """Return the records, with their fields and what these mean."""
    out: list[str] = []
    for record in (Limits, *(r for module in RECORDS for r in _records(module))):
        source = inspect.getsource(record)
        says = inspect.cleandoc(record.__doc__ or "").replace("\n", " ")
        out += [f"### {record.__name__}", "", says, "", "| field | type | what it is |"]
        out += ["|---|---|---|"]
        out += [
            f"| `{name}` | `{_plain(made)}` | {about} |"
            for name, made, about in _FIELD.findall(source)
        ]
        out.append("")
    return "\n".join(out)


def _parameters(function: Any) -> str:
    return ", ".join(list(inspect.signature(function).parameters)[1:])


def _plain(annotation: object) -> str:
    own = isinstance(annotation, type) and not isinstance(annotation, GenericAlias)
    text = annotation.__name__ if isinstance(annotation, type) and own else str(annotation)
    return text.replace('"', "").replace("|", "or")


def _records(module: ModuleType) -> Iterator[Any]:
    for _, found in inspect.getmembers(module, inspect.isclass):
        if found.__module__ == module.__name__ and hasattr(found, "_fields"):
            yield found


def options_text(command: str) -> str:
    """Return the table of a command's options, less those that every bench has."""
    shared = {one.dest for one in command_parser("ledger", COMMANDS["ledger"])._actions}
    rows = ["| option | what it is |", "|---|---|"]
    for action in command_parser(command, COMMANDS[command])._actions:
        names = ", ".join(f"`{name}`" for name in action.option_strings)
        value = action.metavar if action.nargs != 0 and action.metavar else ""
        if not names:
            names, value = f"`{action.metavar or action.dest}`", ""
        elif isinstance(action.choices, Sequence) and not action.metavar:
            value = ", ".join(map(str, action.choices))
        if action.dest == "help" or (action.dest in shared & _BENCH):
            continue
        text = (action.help or "").replace("|", "\\|")
        rows.append(f"| {names}{f' `{value}`' if value else ''} | {text} |".replace("||", "|"))
    return "\n".join(rows) + "\n"


# Options of every command that opens a bench.
_BENCH = {"out", "build", "project", "trust", "free", "jobs", "job_seconds", "job_memory"}


def bench_options_text() -> str:
    """Return the table of the options that every command with a bench has."""
    rows = ["| option | what it is |", "|---|---|"]
    for action in command_parser("ledger", COMMANDS["ledger"])._actions:
        if action.dest in _BENCH:
            value = f" `{action.metavar}`" if action.metavar else ""
            rows.append(f"| `{action.option_strings[0]}`{value} | {action.help} |")
    return "\n".join(rows) + "\n"


PARTS: dict[str, tuple[Callable[[], str], ...]] = {
    "bench-file.md": (keys_text,),
    "api-records.md": (calls_text, records_text),
    "commands/index.md": (bench_options_text,),
    **{f"commands/{name}.md": (partial(options_text, name),) for name in COMMANDS},
}


def with_parts(text: str, parts: list[str]) -> str:
    """Return a page with its made parts, in order, in place of those it has."""
    made = iter(parts)
    pattern = re.escape(BEGIN) + r"\n.*?" + re.escape(END)
    return re.sub(pattern, lambda _: f"{BEGIN}\n{next(made)}{END}", text, flags=re.DOTALL)


def main() -> int:
    """Write the parts anew."""
    for name, parts in PARTS.items():
        page = DOCS / name
        page.write_text(with_parts(page.read_text(), [part() for part in parts]))
        print(f"docs/{name}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
