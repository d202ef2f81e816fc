"""Reading what a bench says of checking: inputs, cases, tolerances, edges, program runs."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from hot_anvil.core.config.edge_kinds import EDGES
from hot_anvil.core.config.positions import Step
from hot_anvil.core.config.records import Case, Input, ProgramRun, Tolerance, Values
from hot_anvil.core.names import did_you_mean, listed

if TYPE_CHECKING:
    from hot_anvil.core.config.reading import Reader

_MOST_ALIGNED = 4096


def read_check_keys(reader: "Reader", table: Values, path: tuple[Step, ...]) -> dict[str, Any]:
    """Return the fields of a snippet that say how it is checked, all of them checked."""
    cases = reader.items(table, path, "case", dict)
    runs = reader.items(table, path, "run", dict)
    program = table.get("program", False)
    if not isinstance(program, bool):
        raise reader.fault((*path, "program"), f"must be true or false, not {program!r}")
    if runs and not program:
        raise reader.fault((*path, "run"), "goes with 'program = true'")
    if program:
        for key in ("entries", "inputs", "sweep", "case", "driver", "not_promised"):
            if table.get(key):
                raise reader.fault((*path, key), "goes with functions; a program has 'run' tables")
    return {
        "tolerance": _tolerance(reader, table, path),
        "not_promised": _not_promised(reader, table, path),
        "cases": tuple(_case(reader, t, (*path, "case", n)) for n, t in enumerate(cases)),
        "program": program,
        "runs": tuple(_run(reader, t, (*path, "run", n)) for n, t in enumerate(runs)),
        "driver": reader.item(table, path, "driver", str, ""),
    }


def read_parameter(reader: "Reader", value: object, path: tuple[Step, ...]) -> Input:
    """Return what a bench says of one parameter."""
    if isinstance(value, bool):
        return Input(int(value))
    if isinstance(value, int | float | str):
        return Input(value)
    if not isinstance(value, Mapping):
        raise reader.fault(
            path, f"must be a number, a name from the sweep or a table, not {value!r}"
        )
    reader.known(value, path, "input")
    members = reader.item(value, path, "members", dict, {})
    if ("fill" in value or bool(members)) == ("alias" in value):
        raise reader.fault(path, "needs either 'fill' (or 'members') or 'alias'")
    for key in ("count", "offset"):
        count = value.get(key, 1)
        if isinstance(count, bool) or not isinstance(count, int | str):
            raise reader.fault((*path, key), "must be a whole number or a name from the sweep")
    if "offset" in value and "alias" not in value:
        raise reader.fault((*path, "offset"), "goes with 'alias'")
    align = value.get("align")
    power = isinstance(align, int) and not isinstance(align, bool) and align > 0
    if align is not None and not (power and align & (align - 1) == 0 and align <= _MOST_ALIGNED):
        raise reader.fault((*path, "align"), f"must be a power of two up to {_MOST_ALIGNED}")
    for key, member in members.items():
        if isinstance(member, bool) or not isinstance(member, int | float | str):
            raise reader.fault((*path, "members", key), "must be a number, an expression or a fill")
    for key in ("fill", "alias"):
        reader.item(value, path, key, str, "")
    return Input(
        None,
        value.get("fill"),
        value.get("count"),
        value.get("alias"),
        align,
        value.get("offset", 0),
        members,
    )


def _tolerance(reader: "Reader", table: Values, path: tuple[Step, ...]) -> Tolerance:
    given = reader.item(table, path, "tolerance", dict, {})
    place = (*path, "tolerance")
    reader.known(given, place, "tolerance")
    for key, value in given.items():
        if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
            raise reader.fault((*place, key), f"must be a number of at least 0, not {value!r}")
    return Tolerance(**{key: float(value) for key, value in given.items()})


def _not_promised(reader: "Reader", table: Values, path: tuple[Step, ...]) -> Mapping[str, str]:
    given: dict[str, str] = reader.item(table, path, "not_promised", dict, {})
    place = (*path, "not_promised")
    for key, reason in given.items():
        if key not in EDGES and key != "all":
            hint = did_you_mean(key, EDGES) or f" Known: {listed([*EDGES, 'all'])}."
            raise reader.fault((*place, key), f"unknown kind of edge '{key}'.{hint.rstrip('.')}")
        if not isinstance(reason, str) or not reason.strip():
            raise reader.fault((*place, key), "must be a text: why the function need not take this")
    return given


def _case(reader: "Reader", table: Values, path: tuple[Step, ...]) -> Case:
    reader.known(table, path, "case")
    inputs = reader.item(table, path, "inputs", dict, {})
    for key, value in inputs.items():
        read_parameter(reader, value, (*path, "inputs", key))
    expected = reader.item(table, path, "expected", dict, {})
    for key, value in expected.items():
        numbers = isinstance(value, list) and all(isinstance(v, int | float) for v in value)
        if not numbers and not isinstance(value, int | float | str):
            raise reader.fault(
                (*path, "expected", key), "must be a number, a list of numbers or a fill"
            )
    if not inputs and not expected:
        raise reader.fault(path, "needs 'inputs', 'expected', or both")
    return Case(inputs, expected, reader.item(table, path, "why", str, ""))


def _run(reader: "Reader", table: Values, path: tuple[Step, ...]) -> ProgramRun:
    reader.known(table, path, "run")
    expected = reader.item(table, path, "expected", dict, {})
    place = (*path, "expected")
    reader.known(expected, place, "expected")
    code = expected.get("exit", 0)
    if isinstance(code, bool) or not isinstance(code, int) or not 0 <= code <= 255:
        raise reader.fault((*place, "exit"), "must be an exit code, 0 to 255")
    files = reader.item(expected, place, "files", dict, {})
    for key, value in (*files.items(), ("stdout", expected.get("stdout", ""))):
        _text_or_file(reader, value, (*place, key))
    if "stdin" in table:
        _text_or_file(reader, table["stdin"], (*path, "stdin"))
    written = tuple(dict.fromkeys([*reader.items(table, path, "writes", str), *files]))
    needs = tuple(reader.items(table, path, "needs", str))
    for name in written:
        if name.startswith("/") or ".." in name.split("/"):
            raise reader.fault((*path, "writes"), f"'{name}' must lie in the program's own folder")
    return ProgramRun(
        tuple(reader.items(table, path, "arguments", str)), table.get("stdin"), needs, written,
        expected,
    )  # fmt: skip


def _text_or_file(reader: "Reader", value: object, path: tuple[Step, ...]) -> None:
    table = isinstance(value, Mapping) and set(value) == {"file"} and isinstance(value["file"], str)
    if not isinstance(value, str) and not table:
        raise reader.fault(path, 'must be a text, or { file = "name" }')
