"""The optimisation records of the GNU compilers: JSON, a list of generator, passes, records.

Passes are named by addresses, which are looked up in the list of the same file. Records nest: a
scope holds what was said while it was analysed. Only what lies in no scope is a result; the rest
led to it.
"""

import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from hot_anvil.core.remarks.records import ANALYSIS, DONE, MISSED, Cause, Kind, Remark
from hot_anvil.core.toolchain.remarks import GUESSED_COUNT

_KINDS: Mapping[str, Kind] = {"success": DONE, "failure": MISSED, "note": ANALYSIS}
_RESULT = "couldn't vectorize loop"  # said behind the cause, of the loop as a whole


def read_records(text: str) -> Iterator[Remark]:
    """Give the remarks of a record file, in its order, causes with what they prevented.

    Raises ValueError for a text that is no such file.
    """
    whole = json.loads(text)
    if not (isinstance(whole, list) and len(whole) == 3 and isinstance(whole[2], list)):
        raise ValueError("not a list of generator, passes and records")
    steps = dict(_steps(whole[1]))
    yield from _with_causes(_remarks(whole[2], steps, 0))


def _steps(passes: Iterable[Mapping[str, Any]]) -> Iterator[tuple[str, str]]:
    for one in passes:
        yield one["id"], one["name"]
        yield from _steps(one.get("children", ()))


def _remarks(
    records: Iterable[Mapping[str, Any]], steps: Mapping[str, str], depth: int
) -> Iterator[Remark]:
    for one in records:
        kind = _KINDS.get(one["kind"])
        if kind:
            place = one.get("location", {})
            chain = one.get("inlining_chain") or [{}]
            yield Remark(
                place.get("file", ""),
                place.get("line", 0),
                place.get("column", 0),
                one.get("function") or chain[-1].get("fndecl", ""),
                steps.get(one.get("pass", ""), ""),
                kind,
                _sentence(one.get("message", ())),
                depth,
            )
        yield from _remarks(one.get("children", ()), steps, depth + 1)


def _sentence(message: Iterable[Any]) -> str:
    """Return the first line of a message: more than that was glued to it."""
    parts = (
        part if isinstance(part, str)
        else part.get("expr") or part.get("stmt") or part.get("symtab_node") or ""
        for part in message
    )  # fmt: skip
    lines = (line.strip() for line in GUESSED_COUNT.sub("", "".join(parts)).split("\n"))
    return next((line for line in lines if line), "")


def _with_causes(remarks: Iterable[Remark]) -> Iterator[Remark]:
    """Give a cause to each loop that was not vectorised: what was said right before it."""
    before: Remark | None = None
    inside: Remark | None = None  # said within the analysis
    for remark in remarks:
        if remark.depth:
            if remark.kind == MISSED and remark.text and remark.text != _RESULT:
                inside = remark
            yield remark
            continue
        if remark.kind == MISSED and remark.text == _RESULT:
            own = next((r for r in (before, inside) if r and _same_loop(r, remark)), None)
            cause = (Cause(own.file, own.line, own.text),) if own else ()
            yield remark._replace(why=cause)
        else:
            yield remark
        before = remark if remark.kind == MISSED and remark.text else None
        inside = None


def _same_loop(cause: Remark, result: Remark) -> bool:
    return (cause.step, cause.function) == (result.step, result.function) and cause.text != _RESULT
