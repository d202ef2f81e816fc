"""What the tool has to know of an instruction set: one record, filled in a folder beside this file.

``core/arch/NAME/architecture.py`` holds it as ``ARCHITECTURE``. Every field is required, so a new
instruction set says of each thing how it is there, if only NEVER.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.arch.semantics import Effect, Role
from hot_anvil.core.code.records import Code, Instruction

Operands = tuple[str, ...]
NEVER = re.compile(r"(?!)")  # for what an instruction set has not


class Syntax(NamedTuple):
    """How assemblers write it."""

    comments: tuple[str, ...]  # signs that start a comment anywhere in a line
    separator: str  # sign between statements of one line
    register: re.Pattern[str]  # a register inside an operand
    family: Callable[[str], tuple[str, str]]  # register -> (family, view); families overlap
    same: Mapping[str, str]  # mnemonic -> the spelling used for comparing
    tidy: Callable[[str], str]  # joined operands -> one way of writing them
    linkage: re.Pattern[str]  # what stands behind a function's name for the linker
    prefixes: frozenset[str]  # words before the mnemonic
    expands: re.Pattern[str]  # mnemonics an assembler may make several of
    fillers: re.Pattern[str]  # instructions that only fill space
    returns: re.Pattern[str]  # instructions that leave the function
    calls: re.Pattern[str]  # mnemonics that call
    jumps: re.Pattern[str]  # mnemonics that go elsewhere for good
    destination_last: bool  # the operand that is written stands last, not first
    meant: Callable[[str], Sequence[str]]  # mnemonic -> names that a person may ask for it by
    others: Mapping[str, Callable[[Instruction], Instruction]]  # other syntaxes, by name


class Disassembly(NamedTuple):
    """How disassemblers write it where that is not how assemblers do."""

    named: Callable[[str, str, str], str]  # (text, comment, name in it) -> text with the name
    relative: re.Pattern[str]  # a branch that counts from its own place: group 1 the bytes
    plain_fillers: frozenset[str]  # fillers that a source may have asked for itself
    open_place: str  # part of an operand whose number depends on the assembler, "" for none
    one_encoding: Callable[[str], str]  # text -> the same for both encodings of an instruction
    long_jump: re.Pattern[str]  # the first of two instructions, whose second an assembler may fill
    long_call: re.Pattern[str] = re.compile("(?!)")  # the second of two that make a far call


class Semantics(NamedTuple):
    """What its instructions do."""

    effect: Callable[[str, Operands], Effect]
    roles: Callable[[str, Operands], tuple[Role, ...]]  # per operand USE, DEFINE or BOTH
    hard_writes: Callable[[str, Operands], tuple[str, ...]]  # families written unnamed
    zero: frozenset[str]  # families of registers that always hold 0
    constant: Callable[[str, Operands, int], int | None]  # value set, given the one before
    computed: Callable[[str, str, int, int], int | None]  # (kind, mnemonic, value, constant)
    scale: Callable[[Operands], int]  # what the index of a memory operand is multiplied by
    # By how much an access moves its base register, before it and after it.
    writeback: Callable[[Operands, Effect], tuple[int, int]]
    access_bytes: Callable[[str, Effect], int]  # that an instruction loads or stores, 0: unknown
    pairs: re.Pattern[str]  # mnemonics that load or store two values
    carry: re.Pattern[str]  # mnemonics that take in the carry of the instruction before
    flag_selects: re.Pattern[str]  # canonical: uses a comparison's outcome as a number
    scaled: re.Pattern[str]  # canonical: multiplies by a power of two on the way
    bit_tests: re.Pattern[str]  # canonical: tests one bit that a register names
    narrow: bool  # wide values take runs of instructions
    atomic_names_tell: bool  # the mnemonic, not a prefix, makes an access atomic


class FrameRules(NamedTuple):
    """How functions take room on the stack; patterns are for canonical instructions."""

    setup: re.Pattern[str]  # builds the frame
    teardown: re.Pattern[str]  # takes it away
    pointer: str  # what moves, as canonical texts name it; "" where there is no stack
    step: Callable[[str, str], int]  # (instruction, next one) -> bytes the frame grows by
    pushed: Callable[[str], int | None]  # bytes that a push or pop moves it by, None: see ``step``
    varies: re.Pattern[str]  # moves it by what a register holds
    aligns: re.Pattern[str]  # aligns it: group 1 the bytes
    saved: Callable[[str], Sequence[str]]  # operand -> registers that it names to be saved
    makes_room: re.Pattern[str]  # pushes nothing that is to be kept
    link: frozenset[str]  # names of the register of the return address
    below: tuple[str, int] | None  # room below the stack pointer: frame pointer, bytes it saves
    probe: re.Pattern[str]  # touches the stack to see that it is there


class Abi(NamedTuple):
    """What functions may rely on; register families, but for names of registers."""

    word: int  # bytes of what debug info calls a word of the frame, 0: of an address
    stack: frozenset[str]  # the stack pointer
    frames: frozenset[str]  # may be a frame pointer
    frame_setup: re.Pattern[str]  # a canonical instruction that makes one a frame pointer
    clobbered: frozenset[str]  # a call may change them
    parameters: frozenset[str]  # parameters arrive in them
    result: str  # holds the result of most functions
    results: frozenset[str]  # may hold a result
    wide_results: tuple[tuple[str, ...], ...]  # results of several registers, the widest first
    register_name: Callable[[int, int], str]  # (DWARF number, bits of an address) -> name
    frame: FrameRules


class Moved(NamedTuple):
    """The operands of an access without what moves its base register, and the move in words."""

    operands: Operands
    before: str = ""
    after: str = ""


class Wording(NamedTuple):
    """How it is said; the sentences themselves stand in ``words.toml`` beside."""

    operand: Callable[[str], str]  # as it is read: constants plain, memory in brackets
    # (mnemonic without its ending, the ending, operands): what is written so for another purpose,
    # or cannot be said without the size of its operands; else ""
    idiom: Callable[[str, str, Operands], str]
    # (mnemonic without its ending, the ending, an example's operands) -> operands that fit them
    fitted: Callable[[str, str, Operands], Operands]
    moved: Callable[[Operands], Moved]  # an access that also moves its base register, taken apart


class ObjectHead(NamedTuple):
    """What the header of an object says."""

    narrow: bool  # it is of 32 bits
    flags: int  # of the processor, 0 where it is of 64 bits


class Tooling(NamedTuple):
    """What assemblers, linkers and disassemblers have to be told."""

    reader: Callable[[str, str], Code] | None  # (text, folder) -> code; None: as GNU as is written
    assembler: Callable[[Sequence[str], str], list[str]]  # (flags, target) -> options
    linker: Callable[["ObjectHead"], list[str]]  # options for objects like one
    linker_alone: tuple[str, ...]  # options so that one object keeps its instructions
    listing_wraps: int  # where an assembler's listing starts again at 0, 0 for nowhere
    types_in_object: bool  # debug info can be read before linking
    counter_flags: tuple[str, ...]  # for compiling native/count.c
    low_bit_is_mode: bool  # the lowest bit of a function's address says how it is encoded


class Needs(NamedTuple):
    """Which features of a processor its code needs, by the names that the system gives them."""

    of: Callable[[Instruction], frozenset[str]]
    asks: re.Pattern[str]  # in an instruction: the code asks itself what the processor has
    levels: Mapping[str, frozenset[str]]  # standard level -> what it has beyond the one before


class Architecture(NamedTuple):
    """One instruction set."""

    name: str  # its folder
    title: str  # as people write it
    syntax: Syntax
    disassembly: Disassembly
    semantics: Semantics
    abi: Abi
    wording: Wording
    tooling: Tooling
