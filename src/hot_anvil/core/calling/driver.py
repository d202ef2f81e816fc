"""Drivers: a source of the bench that makes the objects an entry takes, and calls it.

The functions are those of ``native/hot_anvil_driver.h``. What prepare and result
take are the values that the bench gives, like those of any entry.
"""

from collections.abc import Sequence

from hot_anvil.core.binary.signatures import Signature, Through
from hot_anvil.core.binary.types import VOID
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

PREPARE = "hot_anvil_prepare"
CALL = "hot_anvil_call_"
RESULT = "hot_anvil_result"
RELEASE = "hot_anvil_release"
# As little as there can be between the timing and the entry, and nothing inlined into it.
DRIVER_FLAGS = ("-O2", "-fno-lto")


def through_driver(
    entries: Sequence[Signature], functions: Sequence[Signature], where: str
) -> tuple[Signature, ...]:
    """Return the entries as a driver's functions call them; raises RequestError for one missing."""
    by_name = {function.symbol: function for function in functions}
    prepare, result = by_name.get(PREPARE), by_name.get(RESULT)
    if prepare is None or prepare.returns.kind != "pointer":
        raise RequestError(
            f"{where}: has no HOT_ANVIL_PREPARE(...): the function that makes what the entries "
            "take and returns a pointer to it (see hot_anvil_driver.h)."
        )
    parameters = list(prepare.parameters)
    for parameter in result.parameters[1:] if result else ():
        known = next((p for p in parameters if p.name == parameter.name), None)
        if known is None:
            parameters.append(parameter)
        elif known.type != parameter.type:
            raise RequestError(
                f"{where}: HOT_ANVIL_PREPARE and HOT_ANVIL_RESULT take '{parameter.name}' as "
                "different types; give them different names."
            )
    release = RELEASE if RELEASE in by_name else ""
    out = []
    for entry in entries:
        call = CALL + entry.name
        if call not in by_name:
            calls = [name.removeprefix(CALL) for name in by_name if name.startswith(CALL)]
            raise RequestError(
                f"{where}: has no HOT_ANVIL_CALL({entry.name}).{did_you_mean(entry.name, calls)} "
                f"It calls: {listed(calls) or 'nothing'}."
            )
        out.append(
            entry._replace(
                returns=result.returns if result else VOID,
                parameters=tuple(parameters),
                through=Through(prepare, call, result, release),
            )
        )
    return tuple(out)
