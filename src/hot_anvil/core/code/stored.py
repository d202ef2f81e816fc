"""Code as it is stored: each spelling of an instruction once, files by number.

Records alone (``core.codec``) would do, at five times the size and time: there are hundreds of
thousands of instructions, of few spellings.
"""

from collections.abc import Mapping, Sequence
from typing import Any

from hot_anvil.core.code.records import Code, Datum, Function, Instruction, Site


def to_plain(code: Code) -> dict[str, Any]:
    """Return the code as plain lists and dicts, small and quick to store as JSON."""
    number = {file: index for index, file in enumerate(code.files)}
    spellings: dict[tuple[str, tuple[str, ...]], int] = {}  # few, next to the instructions

    def row(i: Instruction) -> list[Any]:
        key = i.mnemonic, i.operands
        spelling = spellings.setdefault(key, len(spellings))
        out: list[Any] = [spelling, number.get(i.file, -1), i.line, i.text_line, i.address, i.size]
        if i.parts != 1 or i.inline_asm or i.function or i.chain or i.encoding:
            out += [i.parts, int(i.inline_asm), i.function, i.chain, i.encoding]
        return out

    functions = []
    for f in code.functions:
        named = [f.name, f.section, f.parent, dict(f.labels)]
        more: list[Any] = [f.data, dict(f.constants), f.begins, dict(f.tables)]
        functions.append([*named, list(map(row, f.instructions)), *more])
    return {
        "isa": code.isa,
        "view": code.view,
        "files": list(code.files),
        "titles": dict(code.titles),
        "spellings": list(spellings),
        "functions": functions,
    }


def from_plain(plain: Mapping[str, Any]) -> Code:
    """Return the code that ``to_plain`` wrote."""
    known = (*plain["files"], "")
    spellings = [(mnemonic, tuple(operands)) for mnemonic, operands in plain["spellings"]]

    def instruction(row: Sequence[Any]) -> Instruction:
        spelling, file, line, text_line, address, size, *more = row
        mnemonic, operands = spellings[spelling]
        at = address, size
        made = Instruction(mnemonic, operands, known[file], line, text_line, False, *at)
        if not more:
            return made
        parts, inline_asm, function, chain, encoding = more
        sites = tuple(Site(*site) for site in chain)
        return made._replace(
            parts=parts,
            inline_asm=bool(inline_asm),
            function=function,
            chain=sites,
            encoding=encoding,
        )

    functions = [
        Function(
            name,
            section,
            parent,
            tuple(map(instruction, rows)),
            labels,
            tuple(Datum(*datum) for datum in data),
            constants,
            (begins[0], begins[1]),
            {label: tuple(goals) for label, goals in tables.items()},
        )
        for name, section, parent, labels, rows, data, constants, begins, tables in plain[
            "functions"
        ]
    ]
    files = tuple(plain["files"])
    return Code(tuple(functions), files, plain["isa"], plain["titles"], plain["view"])
