"""What the tool has to know of an instruction set to read and compare its code.

One module beside this one describes one instruction set, as ``ISA``.
"""

import re
from collections.abc import Callable, Mapping
from typing import NamedTuple


class Isa(NamedTuple):
    """One instruction set and the way assemblers write it."""

    name: str
    comments: tuple[str, ...]  # signs that start a comment anywhere in a line
    separator: str  # sign between statements of one line
    register: re.Pattern[str]  # a register inside an operand
    family: Callable[[str], tuple[str, str]]  # register -> (family, view); families overlap
    same: Mapping[str, str]  # mnemonic -> the spelling used for comparing
    prefixes: frozenset[str] = frozenset()
    expands: re.Pattern[str] | None = None  # mnemonics an assembler may make several of
    fillers: re.Pattern[str] = re.compile(r"nop$")  # instructions that only fill space
    setup: re.Pattern[str] = re.compile(r"(?!)")  # instructions that set up a stack frame
    teardown: re.Pattern[str] = re.compile(r"(?!)")  # instructions that take it away
    returns: re.Pattern[str] = re.compile(r"ret$")  # instructions that leave the function
    calls: re.Pattern[str] = re.compile(r"call")  # mnemonics that call
    jumps: re.Pattern[str] = re.compile(r"(?!)")  # mnemonics that go elsewhere for good
