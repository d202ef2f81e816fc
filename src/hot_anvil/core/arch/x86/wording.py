"""How operands and idioms are said."""

import re

from hot_anvil.core.arch.records import Operands, Wording
from hot_anvil.core.arch.wording import in_brackets

_ZERO = re.compile(r"(?:xor|sub)[bwlq]?|v?p?xor(?:p[sd]|[dq])?")
_AT_T = re.compile(r"\*?(?:%([c-gs]s):)?([^(%]*)\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\)(.*)")


def _operand(operand: str) -> str:
    plain = operand.lstrip("*")
    if plain.startswith("$"):
        return plain[1:]
    found = _AT_T.fullmatch(operand)
    if found:
        segment, offset, base, index, scale, mask = found.groups()
        parts = [base.lstrip("%")] if base and base != "%rip" else []
        if index:
            parts.append(index.lstrip("%") + (f"*{scale}" if scale and scale != "1" else ""))
        text = in_brackets(parts, offset)
        return (f"[{segment}:{text[1:]}" if segment else text) + mask.replace("%", "")
    found = re.fullmatch(r"%([c-gs]s):(.+)", plain)
    if found:
        return f"[{found[1]}:{found[2]}]"
    if "%" in plain:
        return plain.replace("%", "")
    return plain if not re.match(r"-?\d", plain) else f"[{plain}]"


def _idiom(name: str, operands: Operands) -> str:
    if len(operands) < 2 or len(set(operands)) != 1:
        return ""
    if _ZERO.fullmatch(name) and "(" not in operands[0]:
        return f"{_operand(operands[-1])} = 0"
    if name.startswith("test"):
        return f"flags of {_operand(operands[0])}: zero? negative?"
    return ""


WORDING = Wording(operand=_operand, idiom=_idiom)
