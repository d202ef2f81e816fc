"""Prove a unit's code with the machine's own assembler and disassembler."""

from pathlib import Path

from hot_anvil.core.arch import architecture, has_objects, syntax_of
from hot_anvil.core.asm.disassembly import Decoded, read_assembler_listing, read_objdump
from hot_anvil.core.asm.gnu import without_debug
from hot_anvil.core.binary.elf import ObjectFacts
from hot_anvil.core.code.records import Code
from hot_anvil.core.proof.records import BROKEN, PROVED, UNKNOWN, Proof
from hot_anvil.core.proof.shown_code import (
    Places,
    match_objects,
    prove_order,
    prove_text,
    with_addresses,
)
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import ToolError
from hot_anvil.system.build.jobs import Job
from hot_anvil.system.process.running import run
from hot_anvil.system.toolchain.binutils import Tool, find_tool

_SECONDS = 300.0
# What some compilers write and GNU as does not know; none of it makes code.
_FOREIGN = (".addrsig", ".loc", ".file")


def prove_unit(
    job: Job, work: Path, text: str, code: Code, facts: ObjectFacts
) -> tuple[Proof, Code]:
    """Prove ``code``, read from ``text``, against ``code.o`` in ``work``.

    Returns the proof, and the code with addresses and bytes as far as the
    proof gives them.
    """
    chain = job.toolchain
    objdump = find_tool(chain, "objdump")
    if objdump is None:
        return Proof(UNKNOWN, _lacking(chain, "objdump"), code.total, 0), code
    own = disassemble(objdump, work, "code.o", code.isa)
    if job.family.text_is_object and not (work / "code.lst").is_file():
        return Proof(UNKNOWN, "the assembler wrote no listing", code.total, 0), code
    if job.family.text_is_object:
        listed = _read_listing(work, text)
        proof, places = prove_text(code, listed, text, own)
    else:
        proof, places = _prove_foreign(job, work, text, code, own, objdump)
    if proof.state == PROVED:
        code = with_addresses(code, places, own, facts.sections)
    for name in ("code.lst", "plain.s", "text.o", "rule"):
        (work / name).unlink(missing_ok=True)
    return proof, code


def _read_listing(work: Path, text: str) -> tuple[tuple[int, int], ...]:
    """Read the assembler's listing of ``text``; raises ToolError when it is cut short."""
    listing = (work / "code.lst").read_text(errors="replace")
    last = listing.rstrip("\n").rpartition("\n")[2].split()
    # It repeats the text, so its last line is the text's last or a later one.
    lines = text.rstrip().count("\n") + 1
    if not last or not last[0].isdigit() or int(last[0]) < lines:
        raise ToolError("the assembler's listing is cut short: is the disk full?")
    return read_assembler_listing(listing)


def _prove_foreign(
    job: Job, work: Path, text: str, code: Code, own: tuple[Decoded, ...], objdump: Tool
) -> tuple[Proof, Places]:
    """Prove the code of a compiler whose assembled text is not quite its object."""
    assembled = _assemble_plain(job, work, text)
    if assembled and not objdump.is_llvm:
        listed = _read_listing(work, (work / "plain.s").read_text(errors="surrogateescape"))
        middle = disassemble(objdump, work, "text.o", code.isa)
        proof, places = prove_text(code, listed, text, middle)
        if proof.state != PROVED:
            return proof, {}
        why, matched = match_objects(middle, own, code.isa)
        if not why:
            moved = {
                line: [matched[at] for d in items if (at := (d.section, d.address)) in matched]
                for line, items in places.items()
            }
            return _counted(proof, own), moved
        # Two assemblers may choose differently; then the order has to serve.
        assembled_why = why
    else:
        assembled_why = _lacking(job.toolchain, "as")
    return _prove_by_order(job, work, code, own, objdump, assembled_why)


def _counted(proof: Proof, own: tuple[Decoded, ...]) -> Proof:
    """Return the proof with the padding and data of the compiler's own object."""
    data = sum(item.is_data for item in own)
    padding = len(own) - data - proof.instructions - proof.extra
    return proof._replace(padding=padding, data=data)


def _prove_by_order(
    job: Job, work: Path, code: Code, own: tuple[Decoded, ...], objdump: Tool, why: str
) -> tuple[Proof, Places]:
    llvm = objdump if objdump.is_llvm else find_llvm_objdump(job.toolchain)
    if llvm is None:
        state = BROKEN if "where the object has" in why else UNKNOWN
        return Proof(state, why, code.total, 0), {}
    # The same printer wrote the text: its mnemonics are the compiler's own.
    decoded = disassemble(llvm, work, "code.o", code.isa)
    proof, places = prove_order(code, decoded)
    if proof.state != PROVED:
        return proof._replace(why=f"{proof.why} ({why})"), {}
    by_place = {(item.section, item.address): item for item in own}
    missing = [item for items in places.values() for item in items]
    if any((item.section, item.address) not in by_place for item in missing):
        return Proof(UNKNOWN, "two disassemblers disagree about the object", code.total, 0), {}
    return proof, places


def find_llvm_objdump(chain: Toolchain) -> Tool | None:
    """Return LLVM's disassembler for a toolchain of its family, None when it is not here."""
    return find_tool(chain._replace(binutils=None), "objdump")


def _assemble_plain(job: Job, work: Path, text: str) -> bool:
    """Assemble the text with GNU as into ``text.o`` with a listing; False if that fails."""
    chain = job.toolchain
    assembler = find_tool(chain, "as")
    if assembler is None:
        return False
    lines = without_debug(text).split("\n")
    lines = ["" if s.lstrip().startswith((*_FOREIGN, ".section\t.debug")) else s for s in lines]
    (work / "plain.s").write_text("\n".join(lines), errors="surrogateescape")
    mode = architecture(chain.isa).tooling.assembler(job.flags, chain.target)
    argv = [assembler, *mode, "-aln=code.lst", "-o", "text.o", "plain.s"]
    return not run(argv, work, _SECONDS).failed


def disassemble(objdump: Tool, work: Path, name: str, isa: str) -> tuple[Decoded, ...]:
    """Return what the disassembler sees in the object ``name`` of the folder ``work``."""
    options = ["-dr", "-z", "--no-show-raw-insn"] + ([] if objdump.is_llvm else ["-w"])
    return read_objdump(dump(objdump, options, work, name), syntax_of(isa).comments)


def dump(objdump: Tool, options: list[str], work: Path, name: str) -> str:
    """Return what objdump prints of a file in ``work``."""
    out = work / f"{name}.dump"
    # Large objects print more than what is kept of a stream: through a file.
    said = run([objdump, *options, name], work, _SECONDS, into=out)
    if said.failed:  # half an answer would look like half the code
        words = said.stderr.strip().split("\n")[-1]
        raise ToolError(f"{objdump} ended with {said.ending}: {words or 'is the disk full?'}")
    text = out.read_text(errors="replace")
    out.unlink()
    return text


def no_object(isa: str) -> str:
    """Say why code of an instruction set cannot be proved."""
    title = architecture(isa).title
    return f"{title} is text: there is no object and no disassembler to compare it with"


def _lacking(chain: Toolchain, tool: str) -> str:
    if not has_objects(chain.isa):
        return no_object(chain.isa)
    if chain.binutils is None and chain.family != "clang":
        return f"no {tool} is known for {chain.target}"
    if find_tool(chain, tool):
        return f"GNU {tool} does not accept this compiler's text"
    prefix = f"-{chain.binutils}" if chain.binutils else ""
    return f"{tool} for {chain.target} is missing (on Debian: apt install binutils{prefix})"
