"""Objects and linked images read back: the linked view, late-made code, inlined calls."""

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from hot_anvil.core.arch import architecture, has_objects
from hot_anvil.core.binary.elf import head_of
from hot_anvil.core.binary.image import OUTSIDE, outside_names, read_image, read_symbols
from hot_anvil.core.binary.lines import DebugLines
from hot_anvil.core.build.records import Unit
from hot_anvil.core.code.records import Code, Function, Site
from hot_anvil.core.proof.records import PROVED, UNKNOWN, Proof
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.proving import dump
from hot_anvil.system.process.running import run
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.binutils import Tool, find_tool


def read_object(chain: Toolchain, work: Path, name: str, root: str) -> tuple[Code, Proof]:
    """Read the object ``name`` in ``work`` back: for sources that are assembly themselves."""
    objdump = find_tool(chain, "objdump")
    if objdump is None:
        why = f"no disassembler for {chain.target} is here"
        return Code((), (), isa=chain.isa), Proof(UNKNOWN, why, 0, 0)
    linked = link_alone(chain, work, name)
    code = read_linked(chain, work, linked or name, root, ())
    functions = tuple(f for f in code.functions if f.name != OUTSIDE)
    shown = code._replace(functions=functions)
    return shown, proof_of(shown)


def proof_of(code: Code) -> Proof:
    """Return the proof of code read back from what runs: there is nothing to disagree."""
    padding = sum(d.text.startswith("(padding)") for f in code.functions for d in f.data)
    return Proof(PROVED, "", code.total, padding, code.data - padding)


def read_linked(
    chain: Toolchain,
    work: Path,
    name: str,
    root: str,
    wanted: Sequence[str],
    within: tuple[int, int] | None = None,
) -> Code:
    """Read an image back; ``wanted`` names what counts as its own, ``within`` bounds addresses."""
    objdump = find_tool(chain, "objdump")
    assert objdump is not None
    options = ["-d", "-z"] + ([] if objdump.is_llvm else ["-w"])
    if within:
        options += [f"--start-address={within[0]:#x}", f"--stop-address={within[1]:#x}"]
    data = (work / name).read_bytes()
    lines = DebugLines(data, root)
    text = dump(objdump, options, work, name)
    low_bit = architecture(chain.isa).tooling.low_bit_is_mode
    symbols, outside = read_symbols(data, low_bit), outside_names(data)
    return read_image(text, symbols, lines, chain.isa, wanted, outside)


def bare_link(chain: Toolchain, linker: Tool, first: Path) -> list[str]:
    """Return the start of a link without libraries; ``first`` is one of the objects."""
    argv = [linker, "-e", "0", "--unresolved-symbols=ignore-all"]
    if linker.is_llvm:
        return [*argv, "--image-base=0x1000", "-z", "max-page-size=4096"]
    return argv + architecture(chain.isa).tooling.linker(head_of(first.read_bytes()))


def link_alone(chain: Toolchain, work: Path, name: str) -> str:
    """Link one object by itself so that its debug info can be read; return the image's name."""
    linker = find_tool(chain, "ld")
    if linker is None:
        return ""
    options = architecture(chain.isa).tooling.linker_alone
    # Hidden, so that no other link defines it: every source with objects of its own asks for it.
    fixed = ["--defsym=__dso_handle=0", "-o", "alone.elf", name]
    argv = [*bare_link(chain, linker, work / name), *fixed, *options]
    said = run(argv, work, current_scope().limits.seconds)
    return "" if said.failed else "alone.elf"


def with_chains(code: Code, unit: Unit, chain: Toolchain, store: Store) -> Code:
    """Return a unit's code with the calls that each instruction was inlined through.

    They stand in the debug info only, so the object is linked alone and read
    once; the result is kept. Without a linker for the target the code comes
    back as it is.
    """
    if not has_objects(code.isa) or code.view != "emitted" or not unit.artefact:
        return code

    def read(work: Path) -> list[Any]:
        shutil.copy(store.artefact(unit.artefact).object, Artefact(work).object)
        linked = link_alone(chain, work, "code.o")
        if not linked:
            return []
        data = (work / linked).read_bytes()
        low_bit = architecture(code.isa).tooling.low_bit_is_mode
        placed = {s.name: s.address for s in read_symbols(data, low_bit) if s.kind == "FUNC"}
        lines = DebugLines(data, store.root, only_inlined=True)
        found = (_inlined_in(f, _moved(f, placed), lines) for f in code.functions)
        return [[number, rows] for number, rows in enumerate(found) if rows]

    functions = list(code.functions)
    for number, rows in store.derive(digest(f"chains {stage_digest('code')}", unit.artefact), read):
        functions[number] = _with_inlined(functions[number], rows)
    return code._replace(functions=tuple(functions))


def _moved(function: Function, placed: Mapping[str, int]) -> int | None:
    """Return by how much linking moved a function, None where that is not known."""
    first = function.instructions[0].address if function.instructions else -1
    return placed[function.name] - first if first >= 0 and function.name in placed else None


def _inlined_in(function: Function, moved: int | None, lines: DebugLines) -> list[Any]:
    """Return runs of a function's instructions that were inlined: [first, end, what, chain]."""
    rows: list[Any] = []
    for place, item in enumerate(function.instructions):
        if moved is None or item.address < 0:
            continue
        found = lines.inlined(item.address + moved)
        if found is None:
            continue
        if rows and rows[-1][1] == place and rows[-1][2:] == [found.function, found.chain]:
            rows[-1][1] += 1
        else:
            rows.append([place, place + 1, found.function, found.chain])
    return rows


def _with_inlined(function: Function, rows: Sequence[Any]) -> Function:
    items = list(function.instructions)
    for first, end, name, sites in rows:
        chain = tuple(Site(*site) for site in sites)
        for place in range(first, end):
            items[place] = items[place]._replace(function=name, chain=chain)
    return function._replace(instructions=tuple(items))
