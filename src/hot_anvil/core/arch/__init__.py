"""The instruction sets that can be read, by name; each is loaded when first asked for."""

import re
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hot_anvil.core.arch.records import Isa

# First part of a target triple -> module of this package.
_ARCHITECTURES = (
    (re.compile(r"x86_64|i[3-6]86|amd64"), "x86"),
    (re.compile(r"aarch64|arm64"), "aarch64"),
    (re.compile(r"(arm|thumb)"), "arm"),
    (re.compile(r"riscv(32|64)"), "riscv"),
    (re.compile(r"avr"), "avr"),
    (re.compile(r"msp430"), "msp430"),
    (re.compile(r"nvptx"), "ptx"),
)


def isa_name(target: str) -> str:
    """Return the name of the instruction set of a target triple, "" for an unknown one."""
    for pattern, name in _ARCHITECTURES:
        if pattern.match(target):
            return name
    return ""


@cache
def isa_of(name: str) -> "Isa":
    """Return the instruction set of this name."""
    isa: Isa = import_module(f"hot_anvil.core.arch.{name}.syntax").ISA
    return isa
