"""Prove that the instructions shown are those of the object that runs.

Two steps. The text read by us against the object assembled from it: each
instruction of the object must lie on a text line that we read as that many
instructions, or be padding. Then, where the compiler's own object runs and
not its assembled text, both objects instruction by instruction.
"""

import re
from bisect import bisect_right
from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import pairwise

from hot_anvil.core.arch import architecture, syntax_of
from hot_anvil.core.arch.records import Architecture, Syntax
from hot_anvil.core.asm.disassembly import Decoded
from hot_anvil.core.code.records import Code, Instruction
from hot_anvil.core.code.text import section_of
from hot_anvil.core.proof.records import BROKEN, PROVED, Proof

Places = dict[int, list[Decoded]]  # line of the text -> what the object holds of it
_MOVE = re.compile(
    r"^[ \t]*\.(section|pushsection|popsection|previous|text|data|bss)\b[ \t]*(.*)$", re.MULTILINE
)
_DATA_LINE = re.compile(
    r"(?:[^\s:\"]+:)?\s*\.(?:long|quad|[248]?byte|word|short|hword|value|ascii|asciz|string|zero"
    r"|float|double|xword|dword)\b"
)


def prove_text(
    code: Code, listed: Sequence[tuple[int, int]], text: str, decoded: Sequence[Decoded]
) -> tuple[Proof, Places]:
    """Compare the instructions read from ``text`` with the object made of it.

    ``listed`` gives the offset of each text line that makes bytes; ``decoded``
    is the disassembler's view of the object. Also returns what the object
    holds of each line of the text.
    """
    isa, tooling = syntax_of(code.isa), architecture(code.isa).tooling
    starts = _starts_by_section(listed, text, tooling.listing_wraps)
    shown = Counter(i.text_line for f in code.functions for i in f.instructions)
    expands = {
        i.text_line for f in code.functions for i in f.instructions if isa.expands.match(i.mnemonic)
    }
    places: Places = {}
    padding = data = 0
    lines = text.split("\n")
    for item in decoded:
        at = _line_at(starts.get(item.section, []), item.address)
        if at is not None and at in shown:
            places.setdefault(at, []).append(item)
        elif at is not None and _DATA_LINE.match(lines[at - 1]):
            data += 1
        elif at is not None and _is_directive(lines[at - 1]):
            padding += 1
        else:
            where = f"{item.section}+{item.address:#x}"
            why = f"'{item.text}' at {where} is not shown"
            return Proof(BROKEN, why, len(decoded), padding), {}
    extra = 0
    for line, count in shown.items():
        held = places.get(line, [])
        # Where the linker may still move code, the alignment behind it is in no listing.
        while len(held) > count and isa.fillers.match(held[-1].text) and line not in expands:
            held.pop()
            padding += 1
        found = len(held)
        if found != count and not (found > count == 1 and line in expands):
            said = lines[line - 1].strip()
            why = f"line {line} of the assembly ('{said}') is {found} instructions in the "
            return Proof(BROKEN, f"{why}object, {count} are shown", len(decoded), padding), {}
        extra += found - count
    return Proof(PROVED, "", sum(shown.values()), padding, data, extra), places


def prove_order(code: Code, decoded: Sequence[Decoded]) -> tuple[Proof, Places]:
    """Compare the instructions read from a text with an object, in the order of both.

    For targets without a GNU assembler: the mnemonics of each section must
    agree one by one, apart from padding and data.
    """
    isa = syntax_of(code.isa)
    places: Places = {}
    padding = data = total = 0
    sections = dict.fromkeys([d.section for d in decoded] + [f.section for f in code.functions])
    for section in sections:
        own = [i for f in code.functions if f.section == section for i in f.instructions]
        own.sort(key=lambda i: i.text_line)
        total += len(own)
        waiting = iter(own)
        expected = next(waiting, None)
        for item in (d for d in decoded if d.section == section):
            mnemonic = item.text.partition(" ")[0]
            if expected and isa.same.get(mnemonic, mnemonic) == _plain(expected, isa):
                places.setdefault(expected.text_line, []).append(item)
                expected = next(waiting, None)
            elif item.is_data:
                data += 1
            elif isa.fillers.match(item.text):
                padding += 1
            else:
                said = f"'{expected.text}'" if expected else "nothing"
                where = f"{section}+{item.address:#x}"
                why = f"the object holds '{item.text}' at {where} where {said} is shown"
                return Proof(BROKEN, why, total, padding), {}
        if expected:
            why = f"'{expected.text}', line {expected.text_line} of the assembly, is in no object"
            return Proof(BROKEN, why, total, padding), {}
    return Proof(PROVED, "", total, padding, data), places


def with_addresses(
    code: Code, places: Places, decoded: Sequence[Decoded], sizes: Mapping[str, int]
) -> Code:
    """Return the code with each instruction's address, bytes and machine instructions.

    ``decoded`` is all that the object holds, ``sizes`` the bytes of its
    sections: an instruction ends where the next thing starts.
    """
    ends: dict[tuple[str, int], int] = {}
    for item, following in pairwise(decoded):
        same = item.section == following.section
        end = following.address if same else sizes.get(item.section, item.address)
        ends[item.section, item.address] = end
    if decoded:
        last = decoded[-1]
        ends[last.section, last.address] = sizes.get(last.section, last.address)
    shown = Counter(i.text_line for f in code.functions for i in f.instructions)
    waiting = {line: list(items) for line, items in places.items()}

    def placed(i: Instruction) -> Instruction:
        left = waiting.get(i.text_line, [])
        mine = left[:1] if shown[i.text_line] > 1 else left
        if not mine:
            return i
        start, end = mine[0].address, ends[mine[-1].section, mine[-1].address]
        made = i._replace(address=start, size=end - start, parts=len(mine))
        del left[: len(mine)]
        return made

    functions = tuple(
        f._replace(instructions=tuple(map(placed, f.instructions))) for f in code.functions
    )
    return code._replace(functions=functions)


def _plain(instruction: Instruction, isa: Syntax) -> str:
    mnemonic = instruction.mnemonic.partition(" ")[0]
    return isa.same.get(mnemonic, mnemonic)


def match_objects(
    text_object: Sequence[Decoded], own: Sequence[Decoded], isa_name: str
) -> tuple[str, dict[tuple[str, int], Decoded]]:
    """Compare two objects instruction by instruction, apart from padding.

    Returns the first disagreement ("" when they agree), and for each place
    (section, address) of the first object what the second holds there.
    """
    arch = architecture(isa_name)
    matched: dict[tuple[str, int], Decoded] = {}
    for section in dict.fromkeys(item.section for item in (*text_object, *own)):
        # Data holds what the linker fills in, and nothing of it is shown as code.
        left = [d for d in text_object if d.section == section and not d.is_data]
        right = [d for d in own if d.section == section and not d.is_data]
        pairs = _paired(left, right, arch)
        if isinstance(pairs, str):
            return pairs, {}
        why = _targets_agree(pairs)
        if why:
            return why, {}
        matched.update({(section, a.address): b for a, b in pairs})
    return "", matched


def _paired(
    left: list[Decoded], right: list[Decoded], arch: Architecture
) -> list[tuple[Decoded, Decoded]] | str:
    isa, long_jump = arch.syntax, arch.disassembly.long_jump
    pairs: list[tuple[Decoded, Decoded]] = []
    i = j = 0
    while i < len(left) or j < len(right):
        a = left[i] if i < len(left) else None
        b = right[j] if j < len(right) else None
        if (
            a
            and b
            and (_agree(a, b, arch) or (pairs and _ends_long_jump(long_jump, pairs[-1], a, b)))
        ):
            pairs.append((a, b))
            i, j = i + 1, j + 1
        elif a and isa.fillers.match(a.text):
            i += 1
        elif b and isa.fillers.match(b.text):
            j += 1
        else:
            return f"the text says '{a.text if a else 'nothing'}' where the object has " + (
                f"'{b.text}' at {b.section}+{b.address:#x}" if b else "nothing"
            )
    return pairs


def _agree(a: Decoded, b: Decoded, arch: Architecture) -> bool:
    """Tell whether two objects hold the same instruction at a place."""
    isa, written = arch.syntax, arch.disassembly
    open_place = bool(written.open_place) and written.open_place in a.text
    open_ends = a.relocation or b.relocation or open_place
    if open_ends or (isa.fillers.match(a.text) and isa.fillers.match(b.text)):
        # What the linker fills in reads as some number that depends on the assembler.
        return a.text.split()[0] == b.text.split()[0]
    return written.one_encoding(a.text) == written.one_encoding(b.text)


def _ends_long_jump(
    long_jump: re.Pattern[str], before: tuple[Decoded, Decoded], a: Decoded, b: Decoded
) -> bool:
    """Tell whether a and b end a jump in two parts, which one assembler filled in itself."""
    starts = all(long_jump.match(item.text) for item in before)
    return starts and a.text.split()[0] == b.text.split()[0]


def _targets_agree(pairs: list[tuple[Decoded, Decoded]]) -> str:
    left_at = {a.address: index for index, (a, _) in enumerate(pairs)}
    right_at = {b.address: index for index, (_, b) in enumerate(pairs)}
    for a, b in pairs:
        if a.target is None or b.target is None or a.relocation or b.relocation:
            continue
        if left_at.get(a.target) != right_at.get(b.target):
            return f"'{a.text}' at {b.section}+{b.address:#x} goes elsewhere than the text says"
    return ""


def _starts_by_section(
    listed: Sequence[tuple[int, int]], text: str, wraps: int
) -> dict[str, list[tuple[int, int]]]:
    """Return for each section where lines of the text start in it: (offset, line), sorted.

    ``wraps`` is where an assembler's listing starts again at 0, 0 for nowhere.
    """
    changes = _section_changes(text)
    starts: dict[str, list[tuple[int, int]]] = {}
    current = 0
    for line, offset in listed:
        while current + 1 < len(changes) and changes[current + 1][0] <= line:
            current += 1
        pairs = starts.setdefault(changes[current][1], [])
        if wraps and pairs:  # the offset next to the one before
            before = pairs[-1][0]
            offset += (before - offset + wraps // 2) // wraps * wraps
        pairs.append((offset, line))
    for pairs in starts.values():
        pairs.sort()
    return starts


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
        # Bytes that a listing shows on a line of its own still fill up the section before.
        changes.append((line if ";" in found[2] else line + 1, section))
    return changes
