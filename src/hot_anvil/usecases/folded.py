"""Entries of which a compiler left nothing to time."""

from collections.abc import Sequence

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import parts_by_owner
from hot_anvil.core.facts.values import outcome_facts
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.names import listed
from hot_anvil.workspace import Workspace


def folded_notes(
    workspace: Workspace, builds: Sequence[Built], signatures: Sequence[Signature]
) -> tuple[str, ...]:
    """Say which entries are empty, or return one constant, and under which builds."""
    found: dict[tuple[str, str], list[str]] = {}
    for built in builds:
        if built.status != COMPILED:
            continue
        code = workspace.code(built)
        owners = parts_by_owner(code.functions)
        for signature in signatures:
            parts = owners.get(signature.symbol)
            said = _outcome(Body(signature.symbol, parts, code.isa)) if parts else ""
            if said:
                found.setdefault((signature.name, said), []).append(built.build.name)
    return tuple(
        f"{entry} {said} under {listed(names)}: there is nothing of it to time. What it works on "
        "has to reach it as parameters, and what it makes has to be returned or stored."
        for (entry, said), names in found.items()
    )


def _outcome(body: Body) -> str:
    facts = {fact.name: fact for fact in outcome_facts(FunctionModel(body, None, ()))}
    if facts["empty"].value:
        return "does nothing"
    constant = facts["constant"]
    return f"returns {constant.text}, whatever it is given," if constant.value is not None else ""
