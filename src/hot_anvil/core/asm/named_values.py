"""What stands behind the labels that a function's instructions name, by instruction."""

import re
from collections.abc import Mapping, Sequence

from hot_anvil.core.arch import semantics_of
from hot_anvil.core.asm.constants import constants_named, value_behind
from hot_anvil.core.code.records import Function, join_parts

_LABEL = re.compile(r"[.$]L[\w.$]+")
_MOST = 8  # lines told of a jump table


def named_values(parts: Sequence[Function], isa: str) -> dict[int, str]:
    """Return what is behind labels, in words, by place in a function and its cold parts.

    A number, a table of them, a text (``value_behind``), or where a jump table leads to.
    """
    constants = {label: data for part in parts for label, data in part.constants.items()}
    tables = {label: goals for part in parts for label, goals in part.tables.items()}
    if not constants and not tables:
        return {}
    lines = {
        label: part.instructions[at].line
        for part in parts
        for label, at in part.labels.items()
        if at < len(part.instructions)
    }
    out = {}
    for place, item in enumerate(join_parts(parts)):
        if not any("L" in operand or "CSW" in operand for operand in item.operands):
            continue
        if data := constants_named(item.operands, constants):
            done = semantics_of(isa).effect(item.mnemonic, item.operands)
            value = value_behind(data, done)
        else:
            value = _ways(item.operands, tables, lines)
        if value:
            out[place] = value
    return out


def _ways(
    operands: Sequence[str], tables: Mapping[str, Sequence[str]], lines: Mapping[str, int]
) -> str:
    """Return where a jump table leads to whose label operands name, "" where they name none."""
    for label in _LABEL.findall(",".join(operands)):
        goals = tables.get(label, ())
        if not goals or any(goal not in lines for goal in goals):
            continue
        found = sorted({lines[goal] for goal in goals} - {0})
        shown = ", ".join(map(str, found[:_MOST])) + (", .." if len(found) > _MOST else "")
        where = f", to line{'s' if len(found) > 1 else ''} {shown}" if found else ""
        return f"{len(goals)} ways{where}"
    return ""
