"""Reading the tables of ``anvil.toml`` and of a person's settings, with every mistake named."""

import re
import shlex
from collections.abc import Mapping
from typing import Any

from hot_anvil.core.config.positions import Step, dotted, line_of
from hot_anvil.core.config.reading_checks import read_check_keys, read_parameter
from hot_anvil.core.config.reading_times import read_time_keys
from hot_anvil.core.config.records import (
    Bench,
    CustomToolchain,
    Expectation,
    Grid,
    Input,
    Settings,
    Snippet,
    Values,
    Wanted,
    language_of,
)
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

DEFAULT_FLAGS = {"plain": "-O0", "lean": "-Os", "even": "-O2", "fast": "-O3"}

_KEYS = {
    "": ("title", "flags", "grid", "toolchain", "snippet", "defaults"),
    "defaults": ("syntax", "jobs", "job_seconds", "job_memory"),
    "settings": ("toolchain", "defaults"),
    "grid": ("toolchains", "flags", "except", "reference", "baseline"),
    "toolchain": ("command", "family", "target", "binutils", "flags"),
    "snippet": (
        "name",
        "about",
        "sources",
        "entries",
        "reference",
        "sweep",
        "inputs",
        "source_flags",
        "link_flags",
        "packages",
        "toolchains",
        "flags",
        "from",
        "expect",
        "tolerance",
        "not_promised",
        "case",
        "driver",
        "program",
        "per",
        "share",
        "threads",
        "run",
    ),
    "expect": ("entry", "builds", "loop", "facts", "why"),
    "input": ("fill", "count", "alias", "align", "offset", "members"),
    "tolerance": ("ulp", "relative", "absolute"),
    "case": ("inputs", "expected", "why"),
    "run": ("arguments", "stdin", "needs", "writes", "expected"),
    "expected": ("stdout", "exit", "files"),
}


def read_bench(tables: Values, text: str, file: str, root: str) -> Bench:
    """Check the tables of an ``anvil.toml`` and return the bench.

    ``text`` is the file's text, to name lines in errors; raises RequestError.
    """
    reader = Reader(file, text)
    reader.known(tables, (), "")
    snippets = reader.items(tables, (), "snippet", dict)
    if not snippets:
        raise reader.fault((), "the bench has no [[snippet]] table: nothing to compile")
    flags = reader.item(tables, (), "flags", dict, DEFAULT_FLAGS)
    for name, value in flags.items():
        reader.check_flags(name, value)
    bench = Bench(
        title=reader.item(tables, (), "title", str, ""),
        root=root,
        file=file,
        snippets=tuple(reader.snippet(table, index, flags) for index, table in enumerate(snippets)),
        flags=flags,
        grid=reader.grid(reader.item(tables, (), "grid", dict, {}), flags),
        custom=tuple(
            reader.toolchain(name, table)
            for name, table in reader.item(tables, (), "toolchain", dict, {}).items()
        ),
        defaults=reader.defaults(tables),
    )
    names = [snippet.name for snippet in bench.snippets]
    for index, name in enumerate(names):
        if name in names[:index]:
            raise reader.fault(("snippet", index, "name"), f"the name '{name}' is used twice")
    return bench


def read_settings(tables: Values, text: str, file: str) -> Settings:
    """Check the tables of a person's settings file and return them."""
    reader = Reader(file, text)
    reader.known(tables, (), "settings")
    own = reader.item(tables, (), "toolchain", dict, {})
    custom = tuple(reader.toolchain(name, table) for name, table in own.items())
    return Settings(custom, reader.defaults(tables))


class Reader:
    """Checks tables and raises errors that name file, table, key and line."""

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        self.text = text

    def fault(self, path: tuple[Step, ...], message: str) -> RequestError:
        line = line_of(self.text, path)
        place = f"{self.file}:{line}" if line else self.file
        key = f" {dotted(path)}:" if path else ""
        end = "" if message.endswith("?") else "."
        return RequestError(f"{place}:{key} {message}{end}")

    def known(self, table: Values, path: tuple[Step, ...], kind: str) -> None:
        for key in table:
            if key not in _KEYS[kind]:
                hint = did_you_mean(key, _KEYS[kind]) or f" Known: {listed(_KEYS[kind])}."
                raise self.fault((*path, key), f"unknown key '{key}'.{hint.rstrip('.')}")

    def item(
        self, table: Values, path: tuple[Step, ...], key: str, kind: type, default: Any
    ) -> Any:
        value = table.get(key, default)
        if not isinstance(value, kind):
            names: dict[Any, str] = {str: "a text", dict: "a table", list: "a list"}
            raise self.fault((*path, key), f"must be {names[kind]}, not {value!r}")
        return value

    def items(self, table: Values, path: tuple[Step, ...], key: str, kind: Any) -> list[Any]:
        values: list[Any] = self.item(table, path, key, list, [])
        kinds: dict[Any, str] = {str: "texts", dict: "tables ([[...]])", int: "whole numbers"}
        for value in values:
            if not isinstance(value, kind) or isinstance(value, bool):
                raise self.fault((*path, key), f"must be a list of {kinds[kind]}; {value!r} is not")
        return values

    def check_flags(self, name: str, value: object) -> None:
        texts = value.values() if isinstance(value, Mapping) else [value]
        if not all(isinstance(text, str) for text in texts):
            raise self.fault(("flags", name), "must be a text, or a table of texts per family")

    def grid(self, table: Values, flags: Values) -> Grid:
        path = ("grid",)
        self.known(table, path, "grid")
        wanted = self.flag_sets(table, path, flags) or tuple(flags)
        return Grid(
            tuple(self.items(table, path, "toolchains", str)),
            wanted,
            tuple(self.items(table, path, "except", str)),
            self.item(table, path, "reference", str, ""),
            self.item(table, path, "baseline", str, ""),
        )

    def defaults(self, tables: Values) -> Values:
        """Return what the ``defaults`` table says."""
        table = self.item(tables, (), "defaults", dict, {})
        self.known(table, ("defaults",), "defaults")
        if table.get("syntax", "att") not in ("att", "intel"):
            raise self.fault(("defaults", "syntax"), "must be 'att' or 'intel'")
        for key in ("jobs", "job_seconds", "job_memory"):
            value = table.get(key, 1)
            if isinstance(value, bool) or not isinstance(value, int) or value < 1:
                raise self.fault(("defaults", key), "must be a whole number of at least 1")
        return dict(table)

    def flag_sets(self, table: Values, path: tuple[Step, ...], flags: Values) -> tuple[str, ...]:
        """Return the flag sets that a table names."""
        wanted = self.items(table, path, "flags", str)
        for name in wanted:
            if name not in flags:
                hint = did_you_mean(name, flags) or f" Known: {listed(flags)}."
                raise self.fault(
                    (*path, "flags"), f"no flag set is called '{name}'.{hint.rstrip('.')}"
                )
        return tuple(wanted)

    def toolchain(self, name: str, table: object) -> CustomToolchain:
        path = ("toolchain", name)
        if not isinstance(table, Mapping):
            raise self.fault(path, "must be a table with 'command' and 'family'")
        self.known(table, path, "toolchain")
        for key in ("command", "family"):
            if key not in table:
                raise self.fault(path, f"'{key}' is missing")
        return CustomToolchain(
            name,
            self.item(table, path, "command", str, ""),
            self.item(table, path, "family", str, ""),
            self.item(table, path, "target", str, ""),
            self.item(table, path, "binutils", str, "") if "binutils" in table else None,
            self.flags(table, path, "flags"),
        )

    def flags(self, table: Values, path: tuple[Step, ...], key: str) -> tuple[str, ...]:
        """Return the flags that a text holds, split as a shell does."""
        try:
            return tuple(shlex.split(self.item(table, path, key, str, "")))
        except ValueError as error:
            raise self.fault((*path, key), f"cannot be split into words ({error})") from None

    def snippet(self, table: Values, index: int, flags: Values) -> Snippet:
        path = ("snippet", index)
        self.known(table, path, "snippet")
        sources = tuple(self.items(table, path, "sources", str))
        if not sources:
            raise self.fault(path, "'sources' is missing: name at least one source file")
        for source in sources:
            try:
                language_of(source)
            except RequestError as error:
                raise self.fault((*path, "sources"), str(error).rstrip(".")) from None
        name = self.item(table, path, "name", str, re.sub(r"\.\w+$", "", sources[0]))
        entries = tuple(self.items(table, path, "entries", str))
        reference = self.item(table, path, "reference", str, "")
        if reference and entries and reference not in entries:
            hint = did_you_mean(reference, entries).rstrip("?") or f" Entries: {listed(entries)}"
            raise self.fault((*path, "reference"), f"'{reference}' is not an entry.{hint}")
        inputs = self.item(table, path, "inputs", dict, {})
        for key, value in inputs.items():
            read_parameter(self, value, (*path, "inputs", key))
        sweep = self.item(table, path, "sweep", dict, {})
        points = {key: self.sweep(sweep, (*path, "sweep"), key) for key in sweep}
        about = self.item(table, path, "about", str, "")
        made = Snippet(name, about, sources, entries, reference, points, inputs)
        own = self.item(table, path, "source_flags", dict, {})
        for source in own:
            if source not in sources:
                raise self.fault(
                    (*path, "source_flags", source), f"'{source}' is none of the sources"
                )
        return made._replace(
            source_flags={
                source: self.flags(own, (*path, "source_flags"), source) for source in own
            },
            link_flags=self.flags(table, path, "link_flags"),
            packages=tuple(self.items(table, path, "packages", str)),
            toolchains=tuple(self.items(table, path, "toolchains", str)),
            flags=self.flag_sets(table, path, flags),
            project=self.item(table, path, "from", str, ""),
            **read_check_keys(self, table, path),
            **read_time_keys(self, table, path, made),
            expectations=tuple(
                self.expectation(one, (*path, "expect", number))
                for number, one in enumerate(self.items(table, path, "expect", dict))
            ),
        )

    def expectation(self, table: Values, path: tuple[Step, ...]) -> Expectation:
        """Return one [[snippet.expect]] table, checked."""
        self.known(table, path, "expect")
        entry = self.item(table, path, "entry", str, "")
        facts = self.item(table, path, "facts", dict, {})
        if not entry or not facts:
            raise self.fault(path, "needs 'entry', a function, and 'facts', such as { calls = 0 }")
        loop = table.get("loop")
        whole = isinstance(loop, int) and not isinstance(loop, bool) and loop > 0
        if loop is not None and not whole and loop not in ("any", "all"):
            raise self.fault(
                (*path, "loop"), f"must be a source line, 'any' or 'all', not {loop!r}"
            )
        wanted: dict[str, Wanted] = {}
        for name, value in facts.items():
            if isinstance(value, list) and all(isinstance(part, str) for part in value):
                wanted[name.replace("_", " ")] = tuple(value)
            elif isinstance(value, bool | int | str):
                wanted[name.replace("_", " ")] = value
            else:
                raise self.fault(
                    (*path, "facts", name),
                    f"must be true, false, a whole number, a text or texts, not {value!r}",
                )
        from hot_anvil.core.facts.expectations import check_names  # few benches have any

        why = self.item(table, path, "why", str, "")
        builds = tuple(self.items(table, path, "builds", str))
        made = Expectation(entry, builds, loop, wanted, why, line_of(self.text, path) or 0)
        wrong = check_names(made)
        if wrong:
            raise self.fault((*path, "facts"), wrong)
        return made

    def sweep(self, table: Values, path: tuple[Step, ...], key: str) -> tuple[int, ...]:
        points = tuple(self.items(table, path, key, int))
        if not points:
            raise self.fault((*path, key), "must list at least one whole number")
        return points


def read_input(value: object, name: str, file: str) -> Input:
    """Return the input specification a bench gives for parameter ``name``."""
    return read_parameter(Reader(file, ""), value, ("inputs", name))
