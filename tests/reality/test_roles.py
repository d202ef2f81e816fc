"""What instruction sets say of operands, against what their instructions compute."""

import pytest

from hot_anvil.core.arch import architecture, evaluation_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.operations import Expr, NotEvaluableError, Steps
from hot_anvil.core.code.text import split_operands
from reality import forms

_FORMS = {
    "x86": forms.x86, "riscv": forms.riscv, "aarch64": forms.aarch64, "arm": forms.arm,
    "avr": forms.avr, "msp430": forms.msp430,
}  # fmt: skip
# A register is kept where the source is 0, though its manual calls it undefined; a byte of a
# register is a register of its own for roles.
_KEPT = ("bsf", "bsr", "set")


@pytest.mark.parametrize("isa", sorted(_FORMS))
def test_operands_are_read_and_written_as_the_instruction_computes(isa: str) -> None:
    wrong, count = [], 0
    for text in dict.fromkeys(_FORMS[isa]()):
        mnemonic, _, rest = text.partition(" ")
        operands = split_operands(rest)
        evaluation = evaluation_of(isa)
        try:
            steps = evaluation.operations(mnemonic, operands, evaluation.widths[0])
        except NotEvaluableError:
            continue
        count += 1
        if not (isa == "x86" and mnemonic.startswith(_KEPT)):
            wrong += _disagreeing(isa, text, operands, steps)
    assert wrong == []
    assert count > 50


def _disagreeing(isa: str, text: str, operands: tuple[str, ...], steps: Steps) -> list[str]:
    arch = architecture(isa)
    read, written = _read_and_written(steps)
    named = [_families(isa, operand) for operand in operands]
    out = []
    for k, role in enumerate(arch.semantics.roles(text.partition(" ")[0], operands)):
        others = {name for j, names in enumerate(named) if j != k for name in names}
        names = named[k] - others  # of a register that stands in two places both are true
        computed = _role(bool(names & read), bool(names & written))
        if computed and computed != role:
            out.append(f"{text}: {operands[k]} is {computed}, not {role}")
    return out


def _role(read: bool, written: bool) -> b.Role | None:
    if read and written:
        return b.BOTH
    return b.USE if read else b.DEFINE if written else None


def _families(isa: str, operand: str) -> set[str]:
    arch = architecture(isa)
    found = {arch.syntax.family(r[0])[0] for r in arch.syntax.register.finditer(operand)}
    return found - arch.semantics.zero


def _read_and_written(steps: Steps) -> tuple[set[str], set[str]]:
    read: set[str] = set()
    written: set[str] = set()
    for step in steps:
        for part in step[1:]:
            if isinstance(part, tuple):
                read |= _registers(part) - written
        if step[0] == "set":
            written.add(step[1])
    return read, written


def _registers(e: Expr) -> set[str]:
    if e[0] == "reg":
        return {e[1]}
    return {name for part in e[1:] if isinstance(part, tuple) for name in _registers(part)}
