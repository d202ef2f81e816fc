"""Registers and flags of x86 processors while they are stepped through.

Flags: "Intel 64 and IA-32 Architectures Software Developer's Manual", volume 1, section 3.4.3.
"""

import re
from collections.abc import Iterator

from hot_anvil.core.arch.state import MachineState, Register, flag_letters
from hot_anvil.core.arch.x86.touching import touches

# In the order in which native/trace.c writes them.
_64 = "rax rbx rcx rdx rsi rdi rbp rsp r8 r9 r10 r11 r12 r13 r14 r15 flags".split()
_32 = "eax ebx ecx edx esi edi ebp esp flags".split()
_PAIR = re.compile(r"([ER][A-Z]{2}|R\d{1,2} ?)=([0-9a-f]{8,16})\b")
_VECTOR = re.compile(r"([XYZ]MM)(\d\d)=([0-9a-f ]+)")
_FLAGS = ("EFL", "RFL")
_NO_REGISTER = ("EIP", "RIP", "EFER")


def _plain(bits: int) -> tuple[Register, ...]:
    names = _64 if bits == 64 else _32
    return tuple(Register(name, 32 if name == "flags" else bits) for name in names)


def _logged(line: str) -> Iterator[tuple[str, int]]:
    wide = _VECTOR.match(line)
    if wide:
        yield f"xmm{int(wide[2])}", int(wide[3].replace(" ", ""), 16)
        return
    for name, value in _PAIR.findall(line):
        if name in _FLAGS:
            yield "flags", int(value, 16)
        elif name not in _NO_REGISTER:
            yield name.strip().lower(), int(value, 16)


def _called(name: str, value: int) -> str:
    if not name.startswith("xmm"):
        return name
    return ("x" if value < 1 << 128 else "y" if value < 1 << 256 else "z") + name[1:]


STATE = MachineState(
    plain=_plain,
    wide=tuple(Register(f"xmm{number}", 512) for number in range(32)),
    names_wide=re.compile(r"[xyz]mm\d"),
    stack=lambda bits: "rsp" if bits == 64 else "esp",
    flags="flags",
    flag_text=flag_letters(((11, "OF"), (10, "DF"), (7, "SF"), (6, "ZF"), (4, "AF"), (2, "PF"),
                            (0, "CF"))),
    logged=_logged,
    called=_called,
    debug_name=lambda name: name,
    touches=touches,
)  # fmt: skip
