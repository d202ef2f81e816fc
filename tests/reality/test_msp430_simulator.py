"""Our simulator of the MSP430 against another's, instruction by instruction."""

import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from hot_anvil.system.build.worker_objects import NATIVE
from reality import forms
from reality.running import MSP430, assembled, outcome

STATES = 12
MORE = ("rra 2(r11)", "rrc.b @r11", "rrc @r11", "rra.b 3(r11)", "swpb 2(r11)", "sxt 4(r11)",
        "xor.b @r11+,5(r11)", "add #8,r12", "bic.b #4,1(r11)", "subc @r11+,4(r11)",
        "cmp.b #-1,2(r11)", "mov @r11,-8(r11)", "addc.b 1(r11),-3(r11)", "bit #2,r13")  # fmt: skip


def test_each_instruction_does_what_it_does_in_another_simulator(tmp_path: Path) -> None:
    for tool in (MSP430.compiler[0], *MSP430.runner):
        if shutil.which(tool) is None:
            pytest.skip(f"no {tool} here")
    texts = list(dict.fromkeys((*forms.msp430(), *MORE)))
    random = np.random.default_rng(430)
    states = random.integers(0, 1 << 16, (len(texts), STATES, 9), np.uint64)
    states[:, : STATES // 3, :5] &= np.uint64(0x8001)  # signs and carries meet often
    states[:, :, 0] = MSP430.base  # r11 points into the memory
    states[:, :, 5] &= np.uint64(0x107)
    states[:, :, 6:] = random.integers(0, 1 << 63, states[:, :, 6:].shape, np.uint64)
    theirs = outcome(MSP430, texts, states, tmp_path)[:, :, :9]
    program = tmp_path / "step"
    source = Path(__file__).with_name("step_msp430.c")
    subprocess.run(["gcc", "-O1", f"-I{NATIVE}", source, "-o", program], check=True)
    given = b"".join(
        code + state.tobytes()
        for code, rows in zip(assembled(MSP430, texts, tmp_path), states, strict=True)
        for state in rows
    )
    done = subprocess.run([program], input=given, stdout=subprocess.PIPE, check=True)
    ours = np.frombuffer(done.stdout, np.uint64).reshape(theirs.shape)
    differing = [text for text, a, b in zip(texts, ours, theirs, strict=True) if (a != b).any()]
    assert differing == []
