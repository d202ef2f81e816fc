"""Names of registers by the numbers that debug info uses.

Sources: the processor supplements of the System V ABI (x86-64, i386), Arm's
DWARF documents (AADWARF32, AADWARF64), the RISC-V psABI, and what avr-gcc and
clang for MSP430 write.
"""

_X86_64 = "rax rdx rcx rbx rsi rdi rbp rsp".split()
_X86_32 = "eax ecx edx ebx esp ebp esi edi".split()
_RISCV = (
    "zero ra sp gp tp t0 t1 t2 s0 s1 a0 a1 a2 a3 a4 a5 a6 a7 "
    "s2 s3 s4 s5 s6 s7 s8 s9 s10 s11 t3 t4 t5 t6"
).split()
_RISCV_FLOAT = (
    "ft0 ft1 ft2 ft3 ft4 ft5 ft6 ft7 fs0 fs1 fa0 fa1 fa2 fa3 fa4 fa5 fa6 fa7 "
    "fs2 fs3 fs4 fs5 fs6 fs7 fs8 fs9 fs10 fs11 ft8 ft9 ft10 ft11"
).split()


def register_name(isa: str, number: int, bits: int = 64) -> str:
    """Return the name of DWARF register ``number``; ``bits``: of an address, for x86."""
    namers = {
        "x86": _x86_64 if bits == 64 else _x86_32,
        "aarch64": _aarch64,
        "arm": _arm,
        "riscv": _riscv,
        "avr": _avr,
        "msp430": _msp430,
    }
    namer = namers.get(isa)
    return namer(number) if namer else f"register {number}"


def _x86_64(number: int) -> str:
    if number < 8:
        return _X86_64[number]
    if number < 16:
        return f"r{number}"
    if number == 16:
        return "return address"
    if 17 <= number <= 32:
        return f"xmm{number - 17}"
    return f"xmm{number - 51}" if 67 <= number <= 82 else f"register {number}"


def _x86_32(number: int) -> str:
    if number < 8:
        return _X86_32[number]
    if number == 8:
        return "return address"
    return f"xmm{number - 21}" if 21 <= number <= 28 else f"register {number}"


def _aarch64(number: int) -> str:
    if number < 31:
        return f"x{number}"
    if number == 31:
        return "sp"
    return f"v{number - 64}" if 64 <= number <= 95 else f"register {number}"


def _arm(number: int) -> str:
    if number < 16:
        return {13: "sp", 14: "lr", 15: "pc"}.get(number, f"r{number}")
    if 64 <= number <= 95:
        return f"s{number - 64}"
    return f"d{number - 256}" if 256 <= number <= 287 else f"register {number}"


def _riscv(number: int) -> str:
    if number < 32:
        return _RISCV[number]
    return _RISCV_FLOAT[number - 32] if number < 64 else f"register {number}"


def _avr(number: int) -> str:
    return "SP" if number == 32 else "return address" if number == 36 else f"r{number}"


def _msp430(number: int) -> str:
    return {0: "return address", 1: "sp", 2: "sr"}.get(number, f"r{number}")
