"""Registers, frames and calls. Source: the System V ABI's supplements for x86-64 and i386."""

import re

from hot_anvil.core.arch.frames import steps
from hot_anvil.core.arch.records import Abi, FrameRules

_X86_64 = "rax rdx rcx rbx rsi rdi rbp rsp".split()
_X86_32 = "eax ecx edx ebx esp ebp esi edi".split()


def _register_name(number: int, bits: int) -> str:
    return _x86_64(number) if bits == 64 else _x86_32(number)


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


def _pushed(text: str) -> int | None:
    if text.startswith(("leave", "enter")):
        return None
    return 4 if "%e" in text else 8


def _saved(operand: str) -> list[str]:
    return [operand.lstrip("%")] if operand.startswith("%") else []


ABI = Abi(
    word=0,
    stack=frozenset(("sp",)),
    frames=frozenset(("bp",)),
    frame_setup=re.compile(r"movq? %rsp,%rbp|movl? %esp,%ebp"),
    clobbered=frozenset("ax cx dx si di r8 r9 r10 r11".split() + [f"v{n}" for n in range(32)]),
    parameters=frozenset("di si dx cx r8 r9 v0 v1 v2 v3 v4 v5 v6 v7".split()),
    result="ax",
    results=frozenset(("ax", "v0")),
    wide_results=(),
    register_name=_register_name,
    frame=FrameRules(
        setup=re.compile(
            r"endbr(?:64|32)$|push[lqw]? |movq? %rsp,%rbp$|movl? %esp,%ebp$|subq? \$\w+,%rsp$"
            r"|subl? \$\w+,%esp$|enter"
        ),
        teardown=re.compile(
            r"pop[lqw]? |leave[lq]?$|addq? \$\w+,%rsp$|addl? \$\w+,%esp$|leaq? .*%rsp$"
            r"|(?:rep |bnd )?ret[lq]?\b|vzeroupper$"
        ),
        pointer="sp",
        step=steps(
            (r"sub[lq]? \$(\d+),%[er]sp", r"add[lq]? \$-(\d+),%[er]sp"),
            (r"add[lq]? \$(\d+),%[er]sp", r"sub[lq]? \$-(\d+),%[er]sp"),
        ),
        pushed=_pushed,
        varies=re.compile(r"sub[lq]? %\w+,%[er]sp"),
        aligns=re.compile(r"and[lq]? \$-(\d+),%[er]sp"),
        saved=_saved,
        makes_room=re.compile("enter"),
        link=frozenset(),
        below=("bp", 8),
        probe=re.compile(r"(?:lock )?or[lq] \$0,\d*\(%[er]sp(?:,.*)?\)"),
    ),
)
