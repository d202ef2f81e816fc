"""Reading what a bench says of checking: inputs, cases, tolerances, edges, program runs."""

from collections.abc import Mapping, Sequence
from typing import Any

from hot_anvil.core.config.edge_kinds import EDGES
from hot_anvil.core.config.failing import FAILING
from hot_anvil.core.config.fill_names import is_fill
from hot_anvil.core.config.positions import Path
from hot_anvil.core.config.reader import Reader
from hot_anvil.core.config.records import Case, Input, ProgramRun, Tolerance, Values
from hot_anvil.core.names import did_you_mean, listed

_MOST_ALIGNED = 4096


def read_check_keys(reader: Reader, table: Values, path: Path) -> dict[str, Any]:
    """Return the fields of a snippet that say how it is checked, all of them checked."""
    cases, runs, program = table.get("case", ()), table.get("run", ()), table.get("program", False)
    if runs and not program:
        reader.note((*path, "run"), "goes with 'program = true'")
    if program:
        for key in ("entries", "inputs", "sweep", "case", "driver", "not_promised"):
            if table.get(key):
                reader.note((*path, key), "goes with functions; a program has 'run' tables")
    return {
        "tolerance": reader.attempt(Tolerance(), _tolerance, reader, table, path),
        "not_promised": _reasons(reader, table, path, "not_promised", (*EDGES, "all"), "edge"),
        "accept": _reasons(reader, table, path, "accept", FAILING, "failing verdict"),
        "cases": _each(reader, _case, cases, (*path, "case")),
        "program": program,
        "runs": _each(reader, _run, runs, (*path, "run")),
        "driver": table.get("driver", ""),
    }


def _each(reader: Reader, read: Any, tables: Any, path: Path) -> tuple[Any, ...]:
    """Return what ``read`` makes of each table of an array, those with mistakes left out."""
    made = (reader.attempt(None, read, reader, t, (*path, n)) for n, t in enumerate(tables))
    return tuple(one for one in made if one is not None)


def read_input(value: object, name: str, file: str) -> Input:
    """Return the input specification a bench gives for parameter ``name``; raises RequestError."""
    reader = Reader(file, "")
    made = reader.attempt(Input(None), read_parameter, reader, value, ("inputs", name))
    reader.finish()
    return made


def read_parameter(reader: Reader, value: object, path: Path) -> Input:
    """Return what a bench says of one parameter."""
    if isinstance(value, bool):
        return Input(int(value))
    if isinstance(value, str) and is_fill(value):
        return Input(None, value)  # a number's fill may stand alone
    if isinstance(value, int | float | str):
        return Input(value)
    if not isinstance(value, Mapping):
        raise reader.fault(
            path, f"must be a number, a name from the sweep or a table, not {value!r}"
        )
    known = reader.checked(value, path, "input")
    members = known.get("members", {})
    if ("fill" in value or bool(members)) == ("alias" in value):
        raise reader.fault(path, "needs either 'fill' (or 'members') or 'alias'")
    for key in ("count", "offset"):
        count = known.get(key, 1)
        if isinstance(count, bool) or not isinstance(count, int | str):
            raise reader.fault((*path, key), "must be a whole number or a name from the sweep")
    if "offset" in known and "alias" not in known:
        raise reader.fault((*path, "offset"), "goes with 'alias'")
    align = known.get("align")
    power = isinstance(align, int) and not isinstance(align, bool) and align > 0
    if align is not None and not (power and align & (align - 1) == 0 and align <= _MOST_ALIGNED):
        raise reader.fault((*path, "align"), f"must be a power of two up to {_MOST_ALIGNED}")
    for key, member in members.items():
        if isinstance(member, bool) or not isinstance(member, int | float | str):
            raise reader.fault((*path, "members", key), "must be a number, an expression or a fill")
    return Input(
        None,
        known.get("fill"),
        known.get("count"),
        known.get("alias"),
        align,
        known.get("offset", 0),
        members,
    )


def _tolerance(reader: Reader, table: Values, path: Path) -> Tolerance:
    place = (*path, "tolerance")
    given = reader.checked(table.get("tolerance", {}), place, "tolerance")
    for key, value in given.items():
        if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
            raise reader.fault((*place, key), f"must be a number of at least 0, not {value!r}")
    return Tolerance(**{key: float(value) for key, value in given.items()})


def _reasons(
    reader: Reader, table: Values, path: Path, name: str, kinds: Sequence[str], what: str
) -> Mapping[str, str]:
    """Return a table of kinds, each with the reason that the bench gives for it."""
    given: Mapping[str, str] = table.get(name, {})
    for key, reason in given.items():
        if key not in kinds:
            hint = did_you_mean(key, kinds) or f" Known: {listed(kinds)}."
            reader.note((*path, name, key), f"unknown kind of {what} '{key}'.{hint.rstrip('.')}")
        if not isinstance(reason, str) or not reason.strip():
            reader.note((*path, name, key), f"must be a text: why {_WHY[name]}")
    return given


_WHY = {"not_promised": "the function need not take this", "accept": "this verdict is acceptable"}


def _case(reader: Reader, table: Values, path: Path) -> Case:
    known = reader.checked(table, path, "case")
    inputs, expected = known.get("inputs", {}), known.get("expected", {})
    for key, value in inputs.items():
        reader.attempt(None, read_parameter, reader, value, (*path, "inputs", key))
    for key, value in expected.items():
        numbers = isinstance(value, list) and all(isinstance(v, int | float) for v in value)
        if not numbers and not isinstance(value, int | float | str):
            reader.note((*path, "expected", key), "must be a number, a list of numbers or a fill")
    if not inputs and not expected:
        raise reader.fault(path, "needs 'inputs', 'expected', or both")
    return Case(inputs, expected, known.get("why", ""))


def _run(reader: Reader, table: Values, path: Path) -> ProgramRun:
    known = reader.checked(table, path, "run")
    place = (*path, "expected")
    expected = reader.checked(known.get("expected", {}), place, "expected")
    code = expected.get("exit", 0)
    if isinstance(code, bool) or not isinstance(code, int) or not 0 <= code <= 255:
        reader.note((*place, "exit"), "must be an exit code, 0 to 255")
    files = expected.get("files", {})
    for key, value in (*files.items(), ("stdout", expected.get("stdout", ""))):
        _text_or_file(reader, value, (*place, key))
    if "stdin" in known:
        _text_or_file(reader, known["stdin"], (*path, "stdin"))
    written = tuple(dict.fromkeys([*known.get("writes", ()), *files]))
    for name in written:
        if name.startswith("/") or ".." in name.split("/"):
            reader.note((*path, "writes"), f"'{name}' must lie in the program's own folder")
    arguments, needs = tuple(known.get("arguments", ())), tuple(known.get("needs", ()))
    return ProgramRun(arguments, known.get("stdin"), needs, written, expected)


def _text_or_file(reader: Reader, value: object, path: Path) -> None:
    table = isinstance(value, Mapping) and set(value) == {"file"} and isinstance(value["file"], str)
    if not isinstance(value, str) and not table:
        reader.note(path, 'must be a text, or { file = "name" }')
