"""What instructions do, in words."""

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.arch import isa_name, names
from hot_anvil.core.arch.reference import Dictionary
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.code.text import split_operands
from hot_anvil.core.names import listed
from hot_anvil.core.results.words import Told, Used
from hot_anvil.errors import RequestError
from hot_anvil.system.toolchain.words import dictionary
from hot_anvil.workspace import Workspace, usecase

if TYPE_CHECKING:
    from hot_anvil.core.results.syntax import Change


def explain_instruction(text: str, target: str = "") -> tuple[Told, ...]:
    """Return what an instruction does, for each instruction set that has it, or one target's.

    ``text`` is a mnemonic, or a whole instruction as the compilers write it.
    """
    if not text.strip():
        raise RequestError("explain: name an instruction.")
    isas = [_isa(target)] if target else names()
    told = [one for isa in isas for one in _told(text, dictionary(isa))]
    if not told:
        known = listed(dictionary(isa).reference.name for isa in isas)
        raise RequestError(f"{text}: not in the reference of {known}: unknown here.")
    return tuple(told)


def _told(text: str, own: Dictionary) -> list[Told]:
    *prefixes, name, rest = _parts(text, own)
    mnemonic = " ".join((*prefixes, name)).lower()
    if not rest:
        return [Told(mnemonic, own, one) for one in own.forms(mnemonic)]
    operands = split_operands(rest)
    found = own.find(mnemonic, len(operands))
    register = own.arch.syntax.register
    if found and not register.search(rest) and any(register.fullmatch(f"%{o}") for o in operands):
        raise RequestError(
            f"{text}: registers are written with % here, and sources come first, as the compilers "
            "for this target write it by default."
        )
    return [Told(mnemonic, own, found, operands)] if found else []


def _parts(text: str, own: Dictionary) -> list[str]:
    """Return prefixes, mnemonic and operands, "" where there are none."""
    words = text.split()
    count = 0
    while count < len(words) - 1 and (
        words[count].lower() in own.arch.syntax.prefixes or words[count].startswith("@")
    ):
        count += 1
    return [*words[: count + 1], " ".join(words[count + 1 :])] if words else ["", ""]


def _isa(target: str) -> str:
    plain = target.lower().replace("-64", "")
    isa = plain if plain in names() else isa_name(target)
    if isa not in names():
        raise RequestError(
            f"{target}: no such instruction set; known: {listed(names())}.", "target"
        )
    return isa


@usecase
def instructions_used(
    workspace: Workspace, build: str, snippets: Sequence[str] = ()
) -> tuple[Used, ...]:
    """Return every instruction that a build uses, the commonest first."""
    from hot_anvil.usecases.listings import list_build

    counts = Counter(
        (listing.isa, placed.instruction.mnemonic, len(placed.instruction.operands))
        for listing in list_build(workspace, build, snippets)
        for function in listing.functions
        for line in function.lines
        for placed in line.instructions
    )
    totals: Counter[tuple[str, str]] = Counter()
    usual: dict[tuple[str, str], int] = {}  # how many operands it mostly has
    for (isa, mnemonic, operands), count in counts.most_common():
        totals[isa, mnemonic] += count
        usual.setdefault((isa, mnemonic), operands)
    out = []
    for (isa, mnemonic), count in totals.most_common():
        own = dictionary(isa)
        out.append(Used(own, mnemonic, count, own.find(mnemonic, usual[isa, mnemonic])))
    return tuple(out)


def reading_for(isa: str) -> "Change":
    """Return what puts its plain reading beside an instruction."""
    own = dictionary(isa)

    def change(instruction: Instruction) -> Instruction:
        reading = own.read(instruction.mnemonic, instruction.operands)
        return instruction._replace(words=reading or "unknown")

    return change
