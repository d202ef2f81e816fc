"""Run instructions in earnest: on this processor, under an emulator, in a simulator.

Each instruction becomes a function that takes registers, flags and memory from a record, runs it,
and puts them back; it is called for many states.
"""

import re
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

HERE = Path(__file__).parent
MEMORY = 3  # words of 8 bytes that the record carries


class Target(NamedTuple):
    """How instructions of one instruction set are run."""

    isa: str
    registers: tuple[str, ...]  # as assembled, in the order of the record
    memory: int  # the register that holds the address of the memory
    flags: tuple[tuple[str, int], ...]  # (flag, bit of the record's word for flags)
    compiler: tuple[str, ...]
    runner: tuple[str, ...]
    base: int = 0x10000000  # where the memory lies
    enter: str = ""  # record's address -> flags set; then each register is loaded
    load: str = ""
    save: str = ""
    leave: str = ""


X86 = Target(
    "x86", ("rax", "rbx", "rcx", "rdx", "rsi", "rdi", "r8", "r9"), 4,
    (("CF", 0), ("ZF", 6), ("SF", 7), ("OF", 11)), ("gcc",), (),
    0x10000000, "push %rbx\npush %r15\nmov %rdi,%r15\npushq 64(%r15)\npopfq", "mov {at}(%r15),%{r}",
    "mov %{r},{at}(%r15)",
    "pushfq\npopq 64(%r15)\nxor %eax,%eax\npush %rax\npopfq\npop %r15\npop %rbx\nret",
)  # fmt: skip
RISCV = Target(
    "riscv", tuple(f"a{n}" for n in range(8)), 4, (), ("riscv64-linux-gnu-gcc", "-static"),
    ("qemu-riscv64",), 0x10000000, "mv t6,a0", "ld {r},{at}(t6)", "sd {r},{at}(t6)", "ret",
)  # fmt: skip
AARCH64 = Target(
    "aarch64", tuple(f"x{n}" for n in range(8)), 4,
    (("N", 31), ("Z", 30), ("C", 29), ("V", 28)), ("aarch64-linux-gnu-gcc", "-static"),
    ("qemu-aarch64",), 0x10000000, "mov x9,x0\nldr x10,[x9,64]\nmsr nzcv,x10", "ldr {r},[x9,{at}]",
    "str {r},[x9,{at}]", "mrs x10,nzcv\nstr x10,[x9,64]\nret",
)  # fmt: skip
ARM = Target(
    "arm", tuple(f"r{n}" for n in range(8)), 4,
    (("N", 31), ("Z", 30), ("C", 29), ("V", 28)),
    ("arm-linux-gnueabihf-gcc", "-static", "-marm", "-march=armv7ve", "-mfpu=vfpv3-d16"),
    ("qemu-arm",), 0x10000000,
    "push {{r4-r9,lr}}\nmov r9,r0\nldr r8,[r9,#64]\nmsr APSR_nzcvq,r8", "ldr {r},[r9,#{at}]",
    "str {r},[r9,#{at}]", "mrs r8,APSR\nstr r8,[r9,#64]\npop {{r4-r9,pc}}",
)  # fmt: skip
AVR = Target(
    "avr", tuple(f"r{n}" for n in range(16, 32)), 10,
    (("C", 0), ("Z", 1), ("N", 2), ("V", 3), ("T", 6)), ("avr-gcc", "-mmcu=atmega328p"), (), 0x208,
)  # fmt: skip
MSP430 = Target(
    "msp430", ("r11", "r12", "r13", "r14", "r15"), 0,
    (("C", 0), ("Z", 1), ("N", 2), ("V", 8)), ("llvm-mc-16",), ("mspdebug",), 0x308,
)  # fmt: skip


def outcome(
    target: Target, forms: Sequence[str], states: NDArray[np.uint64], folder: Path
) -> NDArray[np.uint64]:
    """Return what each form leaves for each state; shapes (forms, states, words).

    The words are the registers, the flags, the memory and, at the end, 1 for a fault.
    """
    run = {"avr": _in_simavr, "msp430": _in_mspdebug}.get(target.isa, _called)
    return run(target, forms, states, folder)


def _called(
    target: Target, forms: Sequence[str], states: NDArray[np.uint64], folder: Path
) -> NDArray[np.uint64]:
    lines = [".text"]
    if target.isa == "arm":
        lines.append(".arm\n.syntax unified")
    for k, form in enumerate(forms):
        lines.append(f".globl t{k}\n.type t{k},%function\nt{k}:")
        lines.append(target.enter.format())
        lines += [target.load.format(r=r, at=8 * j) for j, r in enumerate(target.registers)]
        lines.append(form)
        lines += [target.save.format(r=r, at=8 * j) for j, r in enumerate(target.registers)]
        lines.append(target.leave.format())
    word = ".long" if target.isa == "arm" else ".quad"
    lines.append(".data\n.globl tab\ntab:")
    lines += [f"{word} t{k}" for k in range(len(forms))]
    lines.append('.section .note.GNU-stack,"",%progbits')
    source, program = folder / f"{target.isa}.s", folder / f"{target.isa}.out"
    source.write_text("\n".join(lines) + "\n")
    made = [
        *target.compiler,
        "-O1",
        "-no-pie",
        "-o",
        str(program),
        str(HERE / "run.c"),
        str(source),
    ]
    subprocess.run(made, check=True)
    count = states.shape[1]
    done = subprocess.run(
        [*target.runner, str(program), str(len(forms)), str(count)],
        input=states.tobytes(), stdout=subprocess.PIPE, check=True,
    )  # fmt: skip
    return np.frombuffer(done.stdout, np.uint64).reshape(len(forms), count, -1)


def _in_simavr(
    target: Target, forms: Sequence[str], states: NDArray[np.uint64], folder: Path
) -> NDArray[np.uint64]:
    source, object_, program = folder / "avr.s", folder / "avr.o", folder / "run_avr"
    source.write_text("\n".join(f"{form}" for form in forms) + "\n")
    subprocess.run([*target.compiler, "-c", "-o", str(object_), str(source)], check=True)
    flash = folder / "avr.bin"
    subprocess.run(["avr-objcopy", "-O", "binary", str(object_), str(flash)], check=True)
    libraries = ["-lsimavr", "-lelf"]
    subprocess.run(
        ["gcc", "-O1", "-o", str(program), str(HERE / "run_avr.c"), *libraries], check=True
    )
    count = states.shape[1]
    memory = np.ascontiguousarray(states[:, :, 17:20]).view(np.uint8).reshape(len(forms), count, 24)
    given = np.concatenate([states[:, :, :17].astype(np.uint8), memory], axis=2)
    code = flash.read_bytes()
    assert len(code) == 2 * len(forms)
    done = subprocess.run(
        [str(program), str(len(code)), str(len(forms)), str(count)],
        input=code + given.tobytes(), stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, check=True,
    )  # fmt: skip
    out = np.frombuffer(done.stdout[-given.nbytes :], np.uint8).reshape(given.shape)
    words = np.ascontiguousarray(out[:, :, 17:]).view(np.uint64)
    faults = np.zeros((len(forms), count, 1), np.uint64)
    return np.concatenate([out[:, :, :17].astype(np.uint64), words, faults], axis=2)


_REGISTER = re.compile(r"\( ?(SR|R1[1-5]): ([0-9a-f]+)\)")
_DUMPED = re.compile(r"^    003[01]0: ((?:[0-9a-f]{2} )+)", re.MULTILINE)
_PLACES = ("R11", "R12", "R13", "R14", "R15", "SR")


def _in_mspdebug(
    target: Target, forms: Sequence[str], states: NDArray[np.uint64], folder: Path
) -> NDArray[np.uint64]:
    """Run in mspdebug's simulator, driven by commands; it prints what they leave."""
    code = assembled(target, forms, folder)
    commands = []
    for k, bytes_ in enumerate(code):
        for row in states[k]:
            values = [int(v) for v in row]
            memory = b"".join(v.to_bytes(8, "little") for v in values[6:9])
            commands += [f"mw 0x4000 {' '.join(f'{b:02x}' for b in bytes_)}"]
            commands += [f"mw 0x300 {' '.join(f'{b:02x}' for b in memory)}"]
            commands += [f"set {11 + j} {values[j]:#x}" for j in range(5)]
            commands += ["set 0 0x4000", "set 1 0x3f0", f"set 2 {values[5]:#x}"]
            commands += ["step", "md 0x300 24"]
    script = folder / "commands"
    script.write_text("\n".join(commands) + "\n")
    done = subprocess.run(
        [*target.runner, "-q", "sim", f"read {script}"], stdout=subprocess.PIPE, text=True,
        stdin=subprocess.DEVNULL, check=True,
    )  # fmt: skip
    return _read_back(done.stdout, states.shape)


def assembled(target: Target, forms: Sequence[str], folder: Path) -> list[bytes]:
    source, object_, flat = (folder / f"msp430.{end}" for end in ("s", "o", "bin"))
    source.write_text("".join(f".p2align 3\n{form}\n" for form in forms) + ".p2align 3\n")
    made = [*target.compiler, "-triple=msp430", "-filetype=obj", "-o", str(object_), str(source)]
    subprocess.run(made, check=True)
    subprocess.run(["llvm-objcopy-16", "-O", "binary", str(object_), str(flat)], check=True)
    code = flat.read_bytes()
    return [code[8 * k : 8 * k + 8] for k in range(len(forms))]


def _read_back(text: str, shape: tuple[int, ...]) -> NDArray[np.uint64]:
    rows = []
    for part in text.split("=> step")[1:]:
        found = {name: int(value, 16) for name, value in _REGISTER.findall(part)[:6]}
        dumped = bytes.fromhex("".join(_DUMPED.findall(part)))
        memory = [int.from_bytes(dumped[k : k + 8], "little") for k in (0, 8, 16)]
        rows.append([*(found[name] for name in _PLACES), *memory, 0])
    return np.array(rows, np.uint64).reshape(*shape[:2], -1)
