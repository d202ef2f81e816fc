"""Reading a snippet's table: what it is made of, its inputs and what is expected of it."""

import math
import re

from hot_anvil.core.config.positions import Path
from hot_anvil.core.config.reader import Reader, whole
from hot_anvil.core.config.reading_checks import read_check_keys, read_parameter
from hot_anvil.core.config.reading_times import read_time_keys
from hot_anvil.core.config.records import LaunchShape, Snippet, Values, language_of
from hot_anvil.core.facts.expectation import Expectation, Wanted
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

_MOST_POINTS = 1000  # of a sweep
_MOST_AXES = 3


def read_snippet(reader: Reader, table: Values, path: Path, flags: Values) -> Snippet:
    """Return one ``[[snippet]]``; ``flags`` are the bench's flag sets."""
    known = reader.checked(table, path, "snippet")
    sources = _sources(reader, known, path)
    entries = tuple(known.get("entries", ()))
    reference = known.get("reference", "")
    if reference and entries and reference not in entries:
        hint = did_you_mean(reference, entries).rstrip("?") or f" Entries: {listed(entries)}"
        reader.note((*path, "reference"), f"'{reference}' is not an entry.{hint}")
    inputs = known.get("inputs", {})
    for key, value in inputs.items():
        reader.attempt(None, read_parameter, reader, value, (*path, "inputs", key))
    training = known.get("training", {})
    for key, value in training.items():
        reader.attempt(None, read_parameter, reader, value, (*path, "training", key))
        if key not in inputs:
            reader.note((*path, "training", key), f"'{key}' is none of the inputs")
    sweep = known.get("sweep", {})
    points = {k: _points(reader, v, (*path, "sweep", k)) for k, v in sweep.items()}
    if math.prod(map(len, points.values())) > _MOST_POINTS:
        reader.note((*path, "sweep"), f"makes more than {_MOST_POINTS} points: name fewer sizes")
    name = known.get("name", re.sub(r"\.\w+$", "", sources[0]) if sources else "")
    own = known.get("source_flags", {})
    for source in own:
        if source not in sources:
            reader.note((*path, "source_flags", source), f"'{source}' is none of the sources")
    made = Snippet(name, known.get("about", ""), sources, entries, reference, points, inputs)
    return made._replace(
        source_flags={s: reader.words(own, (*path, "source_flags"), s) for s in own},
        link_flags=reader.words(known, path, "link_flags"),
        packages=tuple(known.get("packages", ())),
        toolchains=tuple(known.get("toolchains", ())),
        flags=flag_sets(reader, known, path, flags),
        project=known.get("from", ""),
        training=training,
        **read_check_keys(reader, known, path),
        **read_time_keys(reader, known, path, made),
        expectations=_expectations(reader, known, path),
        launch=reader.attempt(None, _launch, reader, known, path),
    )


def _launch(reader: Reader, table: Values, path: Path) -> LaunchShape | None:
    if "launch" not in table:
        return None
    place = (*path, "launch")
    given = reader.checked(table["launch"], place, "launch")
    shapes = []
    for key in ("grid", "block"):
        if key not in given:
            raise reader.fault(place, f"'{key}' is missing: say how many, such as {key} = 128")
        value = given[key] if isinstance(given[key], list) else [given[key]]
        words = [str(one) for one in value if isinstance(one, int | str) and one is not True]
        if not 1 <= len(value) <= _MOST_AXES or len(words) != len(value):
            raise reader.fault((*place, key), "must be a number, an expression, or up to three")
        shapes.append(tuple(words))
    grid, block = shapes
    return LaunchShape(grid, block, str(given.get("shared", 0)))


def flag_sets(reader: Reader, table: Values, path: Path, flags: Values) -> tuple[str, ...]:
    """Return the flag sets that a table names."""
    wanted: list[str] = table.get("flags", [])
    for name in wanted:
        if name not in flags:
            hint = did_you_mean(name, flags) or f" Known: {listed(flags)}."
            reader.note((*path, "flags"), f"no flag set is called '{name}'.{hint.rstrip('.')}")
    return tuple(wanted)


def _sources(reader: Reader, table: Values, path: Path) -> tuple[str, ...]:
    sources: tuple[str, ...] = tuple(table.get("sources", ()))
    if not sources:
        reader.note(path, "'sources' is missing: name at least one source file")
    for source in sources:
        try:
            language_of(source)
        except RequestError as error:
            reader.note((*path, "sources"), str(error).rstrip("."))
    return sources


def _points(reader: Reader, values: object, path: Path) -> tuple[int, ...]:
    if not isinstance(values, list):
        reader.note(path, f"must be a list, not {values!r}")
        return ()
    if not values:
        reader.note(path, "must list at least one whole number")
    return tuple(values) if reader.are(values, path, int) else ()


def _expectations(reader: Reader, table: Values, path: Path) -> tuple[Expectation, ...]:
    made = (
        reader.attempt(None, _expectation, reader, one, (*path, "expect", number))
        for number, one in enumerate(table.get("expect", ()))
    )
    return tuple(one for one in made if one)


def _expectation(reader: Reader, table: Values, path: Path) -> Expectation:
    known = reader.checked(table, path, "expect")
    entry, facts, loop = known.get("entry", ""), known.get("facts", {}), known.get("loop")
    if not entry or not facts:
        raise reader.fault(path, "needs 'entry', a function, and 'facts', such as { calls = 0 }")
    if loop is not None and not whole(loop, 1) and loop not in ("any", "all"):
        raise reader.fault((*path, "loop"), f"must be a source line, 'any' or 'all', not {loop!r}")
    wanted = {
        name.replace("_", " "): _wanted(reader, value, (*path, "facts", name))
        for name, value in facts.items()
    }
    from hot_anvil.core.facts.expectation import check_names  # few benches have any

    builds = tuple(known.get("builds", ()))
    made = Expectation(
        entry, builds, loop, wanted, known.get("why", ""), path, at=known.get("at", "")
    )
    wrong = check_names(made)
    if wrong:
        raise reader.fault((*path, "facts"), wrong)
    return made


def _wanted(reader: Reader, value: object, path: Path) -> Wanted:
    if isinstance(value, list) and all(isinstance(part, str) for part in value):
        return tuple(value)
    if isinstance(value, bool | int | str):
        return value
    text = f"must be true, false, a whole number, a text or texts, not {value!r}"
    raise reader.fault(path, text)
