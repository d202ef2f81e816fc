"""Prove that the instructions shown are those of the object that runs.

Two steps. The text read by us against the object assembled from it: each
instruction of the object must lie on a text line that we read as that many
instructions, or be padding. Then, where the compiler's own object runs and
not its assembled text, both objects instruction by instruction.
"""

import re
from bisect import bisect_right
from collections import Counter
from collections.abc import Sequence

from hot_anvil.core.att import section_of
from hot_anvil.core.code import Code
from hot_anvil.core.disassembly import Decoded, is_padding
from hot_anvil.core.proof import BROKEN, PROVED, Proof

_MOVE = re.compile(
    r"^[ \t]*\.(section|pushsection|popsection|previous|text|data|bss)\b[ \t]*(.*)$", re.MULTILINE
)
# Instructions with two encodings, between which an assembler and a compiler choose differently.
_SHIFT_BY_ONE = re.compile(r"^((?:sh[lr]|sa[lr]|ro[lr]|rc[lr])[bwlq]?) \$0x1,")


def prove_text(
    code: Code, listed: Sequence[tuple[int, int]], text: str, decoded: Sequence[Decoded]
) -> Proof:
    """Compare the instructions read from ``text`` with the object made of it.

    ``listed`` gives the offset of each text line that makes bytes; ``decoded``
    is the disassembler's view of the object.
    """
    changes = _section_changes(text)
    starts: dict[str, list[tuple[int, int]]] = {}
    current = 0
    for line, offset in listed:
        while current + 1 < len(changes) and changes[current + 1][0] <= line:
            current += 1
        starts.setdefault(changes[current][1], []).append((offset, line))
    for pairs in starts.values():
        pairs.sort()
    shown = Counter(i.text_line for f in code.functions for i in f.instructions)
    found: Counter[int] = Counter()
    padding = 0
    lines = text.split("\n")
    for item in decoded:
        at = _line_at(starts.get(item.section, []), item.address)
        if at is not None and at in shown:
            found[at] += 1
        elif at is not None and _is_directive(lines[at - 1]):
            padding += 1
        else:
            where = f"{item.section}+{item.address:#x}"
            return Proof(BROKEN, f"'{item.text}' at {where} is not shown", len(decoded), padding)
    for line, count in shown.items():
        if found[line] != count:
            said = lines[line - 1].strip()
            why = f"line {line} of the assembly ('{said}') is {found[line]} instructions in the "
            return Proof(BROKEN, f"{why}object, {count} are shown", len(decoded), padding)
    return Proof(PROVED, "", sum(shown.values()), padding)


def prove_objects(text_object: Sequence[Decoded], own: Sequence[Decoded]) -> str:
    """Compare two objects instruction by instruction, apart from padding.

    Returns "" when they agree, else the first disagreement.
    """
    sections = dict.fromkeys(item.section for item in (*text_object, *own))
    for section in sections:
        left = [item for item in text_object if item.section == section]
        right = [item for item in own if item.section == section]
        pairs = _paired(left, right)
        if isinstance(pairs, str):
            return pairs
        why = _targets_agree(pairs)
        if why:
            return why
    return ""


def _paired(left: list[Decoded], right: list[Decoded]) -> list[tuple[Decoded, Decoded]] | str:
    pairs: list[tuple[Decoded, Decoded]] = []
    i = j = 0
    while i < len(left) or j < len(right):
        a = left[i] if i < len(left) else None
        b = right[j] if j < len(right) else None
        if a and b and _spelled(a) == _spelled(b):
            pairs.append((a, b))
            i, j = i + 1, j + 1
        elif a and is_padding(a.text):
            i += 1
        elif b and is_padding(b.text):
            j += 1
        else:
            return f"the text says '{a.text if a else 'nothing'}' where the object has " + (
                f"'{b.text}' at {b.section}+{b.address:#x}" if b else "nothing"
            )
    return pairs


def _spelled(item: Decoded) -> str:
    # What the linker fills in reads as some number that depends on the assembler.
    if "(%rip)" in item.text or item.relocation:
        return item.text.split()[0]
    if item.text.startswith("xchg"):  # the operands have no order
        return " ".join(sorted(re.split(r"[ ,]", item.text)))
    return _SHIFT_BY_ONE.sub(r"\1 ", item.text)


def _targets_agree(pairs: list[tuple[Decoded, Decoded]]) -> str:
    left_at = {a.address: index for index, (a, _) in enumerate(pairs)}
    right_at = {b.address: index for index, (_, b) in enumerate(pairs)}
    for a, b in pairs:
        if a.target is None or b.target is None or a.relocation or b.relocation:
            continue
        if left_at.get(a.target) != right_at.get(b.target):
            return f"'{a.text}' at {b.section}+{b.address:#x} goes elsewhere than the text says"
    return ""


def _line_at(starts: list[tuple[int, int]], address: int) -> int | None:
    index = bisect_right(starts, (address, 1 << 60)) - 1
    return starts[index][1] if index >= 0 else None


def _is_directive(line: str) -> bool:
    return line.strip().startswith(".")


def _section_changes(text: str) -> list[tuple[int, str]]:
    """Return (text line, section that bytes go to from there on), in order."""
    changes = [(0, ".text")]
    section, previous = ".text", ".text"
    stack: list[str] = []
    line, at = 1, 0
    for found in _MOVE.finditer(text):
        line += text.count("\n", at, found.start())
        at = found.start()
        name = found[1]
        if name in ("section", "pushsection"):
            if name == "pushsection":
                stack.append(section)
            previous, section = section, section_of(found[2])[0]
        elif name in ("text", "data", "bss"):
            previous, section = section, f".{name}"
        elif name == "popsection" and stack:
            previous, section = section, stack.pop()
        elif name == "previous":
            section, previous = previous, section
        changes.append((line, section))
    return changes
