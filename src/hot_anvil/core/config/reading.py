"""Reading the tables of ``anvil.toml`` and of a person's settings, with every mistake named."""

from collections.abc import Mapping

from hot_anvil.core.arch import SYNTAXES
from hot_anvil.core.config.positions import Path
from hot_anvil.core.config.reader import Reader, check_values, whole
from hot_anvil.core.config.reading_snippets import flag_sets, read_snippet
from hot_anvil.core.config.records import PROFILE, Bench, CustomToolchain, Grid, Settings, Values

DEFAULT_FLAGS = {"plain": "-O0", "lean": "-Os", "even": "-O2", "fast": "-O3"}


def read_bench(tables: Values, text: str, file: str, root: str) -> Bench:
    """Check the tables of an ``anvil.toml`` and return the bench.

    ``text`` is the file's text, to name lines in errors. Raises RequestError with all mistakes.
    """
    reader = Reader(file, text)
    check_values(reader, tables)
    known = reader.checked(tables, (), "")
    if not tables.get("snippet"):
        reader.note((), "the bench has no [[snippet]] table: nothing to compile")
    flags = known.get("flags", DEFAULT_FLAGS)
    for name, value in flags.items():
        _check_flags(reader, name, value)
    snippets = (
        reader.attempt(None, read_snippet, reader, table, ("snippet", index), flags)
        for index, table in enumerate(known.get("snippet", []))
    )
    grid, custom = _grid(reader, known.get("grid", {}), flags), _toolchains(reader, known)
    defaults = _defaults(reader, known)
    found = tuple(snippet for snippet in snippets if snippet)
    names: set[str] = set()
    for index, snippet in enumerate(found):
        if snippet.name in names:
            reader.note(("snippet", index, "name"), f"the name '{snippet.name}' is used twice")
        names.add(snippet.name)
    reader.finish()
    title = known.get("title", "")
    return Bench(title, root, file, found, flags, grid, custom, defaults=defaults, text=text)


def read_settings(tables: Values, text: str, file: str) -> Settings:
    """Check the tables of a person's settings file and return them."""
    reader = Reader(file, text)
    known = reader.checked(tables, (), "settings")
    settings = Settings(_toolchains(reader, known), _defaults(reader, known))
    reader.finish()
    return settings


def _check_flags(reader: Reader, name: str, value: object) -> None:
    table = dict(value) if isinstance(value, Mapping) else {"other": value}
    if not isinstance(table.pop(PROFILE, False), bool):
        reader.note(("flags", name, PROFILE), "must be true or false")
    if not all(isinstance(text, str) for text in table.values()):
        reader.note(("flags", name), "must be a text, or a table of texts per family")
    elif not table:
        reader.note(("flags", name), "has no flags: give a text per family, or 'other' for all")


def _grid(reader: Reader, table: Values, flags: Values) -> Grid:
    path = ("grid",)
    known = reader.checked(table, path, "grid")
    clock = known.get("clock_hz", 0)
    if "clock_hz" in known and not (isinstance(clock, int | float) and 1 <= clock <= 1e12):
        reader.note((*path, "clock_hz"), "must be a number of hertz, such as 16e6")
        clock = 0
    return Grid(
        tuple(known.get("toolchains", ())),
        flag_sets(reader, known, path, flags) or tuple(flags),
        tuple(known.get("except", ())),
        known.get("reference", ""),
        known.get("baseline", ""),
        float(clock),
    )


def _defaults(reader: Reader, tables: Values) -> Values:
    known = reader.checked(tables.get("defaults", {}), ("defaults",), "defaults")
    if known.get("syntax", SYNTAXES[0]) not in SYNTAXES:
        reader.note(("defaults", "syntax"), f"must be {' or '.join(map(repr, SYNTAXES))}")
    for key in ("jobs", "job_seconds", "job_memory"):
        if not whole(known.get(key, 1), 1):
            reader.note(("defaults", key), "must be a whole number of at least 1")
    return known


def _toolchains(reader: Reader, tables: Values) -> tuple[CustomToolchain, ...]:
    own = tables.get("toolchain", {})
    made = (reader.attempt(None, _toolchain, reader, name, table) for name, table in own.items())
    return tuple(chain for chain in made if chain)


def _toolchain(reader: Reader, name: str, table: object) -> CustomToolchain:
    path: Path = ("toolchain", name)
    if not isinstance(table, Mapping):
        raise reader.fault(path, "must be a table with 'command' and 'family'")
    known = reader.checked(table, path, "toolchain")
    for key in ("command", "family"):
        if key not in table:
            reader.note(path, f"'{key}' is missing")
    return CustomToolchain(
        name,
        known.get("command", ""),
        known.get("family", ""),
        known.get("target", ""),
        known.get("binutils"),
        reader.words(known, path, "flags"),
    )
