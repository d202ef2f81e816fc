"""Reading what a bench says of measuring: what an element is, what a gain is worth, threads."""

from collections.abc import Mapping
from typing import Any

from hot_anvil.core.config.expressions import names_in
from hot_anvil.core.config.positions import Path
from hot_anvil.core.config.reader import Reader, whole
from hot_anvil.core.config.records import Snippet, Values
from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError

MOST_THREADS = 256


def read_time_keys(reader: Reader, table: Values, path: Path, snippet: Snippet) -> dict[str, Any]:
    """Return the fields of a snippet that say how it is measured, all of them checked."""
    for key in ("per", "threads"):
        if table.get("program") and key in table:
            reader.note((*path, key), "goes with functions; a program has 'run' tables")
    nothing: tuple[float | None, str] = (None, "")
    share, share_in = reader.attempt(nothing, _share, reader, table.get("share"), path)
    threads = table.get("threads", 0)
    if not whole(threads, 0, MOST_THREADS):
        reader.note(
            (*path, "threads"), f"must be a whole number up to {MOST_THREADS}, not {threads!r}"
        )
    per = reader.attempt("", _per, reader, table.get("per", ""), path, snippet)
    return {"per": per, "share": share, "share_in": share_in, "threads": threads}


def _share(reader: Reader, share: Any, path: Path) -> tuple[float | None, str]:
    """Return the share that is given, or the program that it is measured in."""
    place = (*path, "share")
    if isinstance(share, Mapping):
        program = share.get("program", "")
        if set(share) != {"program"} or not isinstance(program, str) or not program:
            raise reader.fault(place, 'as a table must be { program = "NAME" }')
        return None, program
    number = isinstance(share, int | float) and not isinstance(share, bool) and 0 < share <= 1
    if share is not None and not number:
        text = "must be a number above 0 and at most 1, or a table that names a program, not "
        raise reader.fault(place, f"{text}{share!r}")
    return share, ""


def _per(reader: Reader, per: str, path: Path, snippet: Snippet) -> str:
    known = {*snippet.sweep, *(k for k, v in snippet.inputs.items() if isinstance(v, int))}
    try:
        names = list(names_in(per)) if per else []
    except RequestError as error:
        raise reader.fault((*path, "per"), str(error).rstrip(".")) from None
    if [name for name in names if name not in known] or (per and not names):
        raise reader.fault(
            (*path, "per"),
            f"'{per}' must be an expression over the sweep or the numbers of the inputs, such as "
            f"'n' (known: {listed(known) or 'none'})",
        )
    return per
