"""What instructions are said to compute, against processors, emulators and simulators."""

import re
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from hot_anvil.core.arch import architecture, evaluation_of, operations
from hot_anvil.core.code.text import split_operands
from hot_anvil.core.evaluate.operators import constant
from hot_anvil.core.evaluate.running import Run
from hot_anvil.core.evaluate.states import States
from reality import forms
from reality.running import AARCH64, ARM, AVR, MSP430, RISCV, X86, Target, outcome

STATES = 100
_FORMS = {
    "x86": forms.x86, "riscv": forms.riscv, "aarch64": forms.aarch64, "arm": forms.arm,
    "avr": forms.avr, "msp430": forms.msp430,
}  # fmt: skip


@pytest.mark.parametrize("target", [X86, RISCV, AARCH64, ARM, AVR, MSP430], ids=lambda t: t.isa)
def test_operations_agree_with_the_machine(target: Target, tmp_path: Path) -> None:
    for tool in (target.compiler[0], *target.runner):
        if shutil.which(tool) is None:
            pytest.skip(f"no {tool} here")
    disagree, count = disagreements(target, tmp_path)
    assert count > 2_500
    assert disagree == []


@pytest.mark.parametrize(
    ("name", "planted"),
    [
        ("overflow_of_add", lambda a, b, r, w: operations.borrow_of_sub(a, b, r, w)),
        ("carry_of_add", lambda a, b, r, w: operations.overflow_of_add(a, b, r, w)),
        ("borrow_of_sub", lambda a, b, r, w: operations.carry_of_add(a, b, r, w)),
    ],
)
def test_a_planted_fault_is_seen(
    name: str, planted: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    if shutil.which(X86.compiler[0]) is None:
        pytest.skip("no gcc here")
    evaluation_of("x86").operations.cache_clear()  # type: ignore[attr-defined]
    monkeypatch.setattr(operations, name, planted)
    try:
        assert len(disagreements(X86, tmp_path)[0]) > 5
    finally:
        evaluation_of("x86").operations.cache_clear()  # type: ignore[attr-defined]


def disagreements(target: Target, folder: Path) -> tuple[list[str], int]:
    """Return what differs from the machine, and how many states were compared."""
    texts = list(dict.fromkeys(_FORMS[target.isa]()))
    drawn = [_states(target, text, k) for k, text in enumerate(texts)]
    words = np.array([[*_registers(target, s), *_memory(k, s.count)] for k, s in enumerate(drawn)])
    given = np.ascontiguousarray(words.transpose(0, 2, 1))
    left = outcome(target, texts, given, folder)
    found = []
    for k, text in enumerate(texts):
        found += _differences(target, text, drawn[k], given[k], left[k])
    return found, given.shape[0] * given.shape[1]


def _states(target: Target, text: str, k: int) -> States:
    arch = evaluation_of(target.isa)
    width = arch.widths[0]
    count = 24 if target.isa == "msp430" else STATES  # its simulator prints all it does
    states = States(width, arch.flags, (), (), count, 1000 + k)
    families = _families(target)
    if _uses_memory(target, text):
        _point(target, states, families)
    if "div" in text and target.isa == "x86":  # else nearly all of them fault
        high = states.register("dx").copy()
        high[: states.count // 2] = 0
        states.put("dx", high)
    return states


def _uses_memory(target: Target, text: str) -> bool:
    pattern = {"avr": r"^(?:ld|st)d? ", "msp430": r"[@(]", "arm": r"\[|r4,"}.get(
        target.isa, r"[(\[]"
    )
    return re.search(pattern, text) is not None


def _point(target: Target, states: States, families: Sequence[str]) -> None:
    """Make the register that addresses the memory do so; on AVR all three pairs."""
    count = states.count
    if target.isa != "avr":
        states.put(families[target.memory], np.full(count, target.base, np.uint64))
        return
    for name in families[10:]:
        byte = target.base >> 8 if int(name[1:]) % 2 else target.base & 0xFF
        states.put(name, np.full(count, byte, np.uint64))


def _families(target: Target) -> list[str]:
    family = architecture(target.isa).syntax.family
    return [family(f"%{r}" if target.isa == "x86" else r)[0] for r in target.registers]


def _registers(target: Target, states: States) -> list[np.ndarray]:
    out = [states.register(name) for name in _families(target)]
    flags = np.full(states.count, 0x202 if target.isa == "x86" else 0, np.uint64)
    for name, at in target.flags:
        flags |= states.register(name) << np.uint64(at)
    return [*out, flags]


def _memory(k: int, count: int) -> list[np.ndarray]:
    rng = np.random.default_rng(k)
    return [rng.integers(0, 2**64, count, dtype=np.uint64) for _ in range(3)]


def _differences(
    target: Target, text: str, states: States, given: np.ndarray, left: np.ndarray
) -> list[str]:
    arch = evaluation_of(target.isa)
    mnemonic, _, rest = text.partition(" ")
    operands = split_operands(rest)
    steps = arch.operations(mnemonic, operands, arch.widths[0])
    own = len(target.registers)
    base = target.base - {"avr": 8, "msp430": 8}.get(target.isa, 0)
    runs = []
    for undefined in (0, 1):
        run = Run(states, undefined=undefined)
        run.stored = [(constant(base + 8 * j), 8, given[:, own + 1 + j]) for j in range(3)]
        run.run(steps)
        with np.errstate(all="ignore"):
            said = {name: run.full(run.register(name)) for name in _families(target)}
            said |= {name: run.full(run.register(name)) for name, _ in target.flags}
            said |= {f"memory {j}": run.full(run.load(8, constant(base + 8 * j))) for j in range(3)}
        runs.append((said, run.full(run.faults)))
    found = []
    if (runs[0][1] != left[:, -1]).any():
        found.append(f"{text}: faults")
    sound = left[:, -1] == 0
    machine = {name: left[:, j] for j, name in enumerate(_families(target))}
    machine |= {n: (left[:, own] >> np.uint64(at)) & np.uint64(1) for n, at in target.flags}
    machine |= {f"memory {j}": left[:, own + 1 + j] for j in range(3)}
    for name, values in runs[0][0].items():
        known = values == runs[1][0][name]  # else it hangs on what is undefined
        wrong = sound & known & (values != machine[name])
        if wrong.any():
            k = int(np.argmax(wrong))
            found.append(
                f"{text}: {name} {int(wrong.sum())} times, {int(values[k]):#x} for "
                f"{int(machine[name][k]):#x}"
            )
    return found
