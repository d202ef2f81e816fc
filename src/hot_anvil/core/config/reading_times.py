"""Reading what a bench says of measuring: what an element is, what a gain is worth, threads."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from hot_anvil.core.config.expressions import names_in
from hot_anvil.core.config.positions import Step
from hot_anvil.core.config.records import Snippet, Values
from hot_anvil.core.names import listed

if TYPE_CHECKING:
    from hot_anvil.core.config.reading import Reader

MOST_THREADS = 256


def read_time_keys(
    reader: "Reader", table: Values, path: tuple[Step, ...], snippet: Snippet
) -> dict[str, Any]:
    """Return the fields of a snippet that say how it is measured, all of them checked."""
    program = table.get("program", False)
    for key in ("per", "threads"):
        if program and key in table:
            raise reader.fault((*path, key), "goes with functions; a program has 'run' tables")
    share = table.get("share")
    share_in = ""
    if isinstance(share, Mapping):
        share_in = share.get("program", "")
        if set(share) != {"program"} or not isinstance(share_in, str) or not share_in:
            raise reader.fault((*path, "share"), 'as a table must be { program = "NAME" }')
        share = None
    if share is not None and (
        isinstance(share, bool) or not isinstance(share, int | float) or not 0 < share <= 1
    ):
        raise reader.fault(
            (*path, "share"),
            "must be a number above 0 and at most 1, or a table that names a program, not "
            f"{share!r}",
        )
    threads = table.get("threads", 0)
    if (
        isinstance(threads, bool)
        or not isinstance(threads, int)
        or not 0 <= threads <= MOST_THREADS
    ):
        raise reader.fault(
            (*path, "threads"), f"must be a whole number up to {MOST_THREADS}, not {threads!r}"
        )
    per = reader.item(table, path, "per", str, "")
    known = {*snippet.sweep, *(k for k, v in snippet.inputs.items() if isinstance(v, int))}
    unknown = [name for name in names_in(per) if name not in known]
    if unknown or (per and not any(True for _ in names_in(per))):
        raise reader.fault(
            (*path, "per"),
            f"'{per}' must be an expression over the sweep or the numbers of the inputs, such as "
            f"'n' (known: {listed(known) or 'none'})",
        )
    return {"per": per, "share": share, "share_in": share_in, "threads": threads}
