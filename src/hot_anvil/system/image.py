"""Objects and linked images read back: the linked view, late-made code, inlined calls."""

import shutil
from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.built import COMPILED, REFUSED, Built, Unit
from hot_anvil.core.code import Code, Function, Instruction, from_plain, to_plain
from hot_anvil.core.dwarf import DebugLines
from hot_anvil.core.elf import object_facts
from hot_anvil.core.image import OUTSIDE, Symbol, read_image, read_symbols
from hot_anvil.core.messages import read_diagnostics
from hot_anvil.core.proof import PROVED, UNKNOWN, Proof
from hot_anvil.core.toolchain import Family, Toolchain
from hot_anvil.system.binutils import find_tool
from hot_anvil.system.files import digest, read_json, write_json
from hot_anvil.system.jobs import links_late
from hot_anvil.system.linker import driver_command, trailing_libraries
from hot_anvil.system.process import limits, run
from hot_anvil.system.proving import dump
from hot_anvil.system.store import FORMAT, Store

WHOLE = "(linked)"  # stands for the sources of a linked unit


def read_object(chain: Toolchain, work: Path, name: str, root: str) -> tuple[Code, Proof]:
    """Read the object ``name`` in ``work`` back: for sources that are assembly themselves."""
    objdump = find_tool(chain, "objdump")
    if objdump is None:
        why = f"no disassembler for {chain.target} is here"
        return Code((), (), isa=chain.isa), Proof(UNKNOWN, why, 0, 0)
    linked = _link_alone(chain, work, name)
    code = _read(chain, work, linked or name, root, ())
    functions = tuple(f for f in code.functions if f.name != OUTSIDE)
    shown = code._replace(functions=functions)
    return shown, _proof(shown)


def _proof(code: Code) -> Proof:
    """Return the proof of code read back from what runs: there is nothing to disagree."""
    padding = sum(d.text.startswith("(padding)") for f in code.functions for d in f.data)
    return Proof(PROVED, "", code.total, padding, code.data - padding)


def _read(chain: Toolchain, work: Path, name: str, root: str, wanted: Sequence[str]) -> Code:
    objdump = find_tool(chain, "objdump")
    assert objdump is not None
    options = ["-d", "-z"] + ([] if objdump.is_llvm else ["-w"])
    data = (work / name).read_bytes()
    lines = DebugLines(data, root)
    text = dump(objdump, options, work, name)
    return read_image(text, read_symbols(data), lines, chain.isa, wanted)


def _link_alone(chain: Toolchain, work: Path, name: str) -> str:
    """Link one object by itself so that its debug info can be read; return the image's name."""
    linker = find_tool(chain, "ld")
    if linker is None:
        return ""
    argv = [linker, "-e", "0", "--unresolved-symbols=ignore-all", "-o", "alone.elf", name]
    if chain.isa == "riscv":
        argv += ["--no-relax"]
    if chain.isa == "x86" and not linker.is_llvm and not chain.target.startswith("x86_64"):
        argv += ["-m", "elf_i386"]
    if linker.is_llvm:
        argv += ["--image-base=0x1000", "-z", "max-page-size=4096"]
    said = run(argv, work, limits.seconds)
    return "" if said.failed else "alone.elf"


def link_whole(
    built: Built, toolchains: Sequence[Toolchain], families: Sequence[Family], store: Store
) -> Unit:
    """Link the units of a build to one image and read its code back from that.

    The functions that can be called from outside stay callable, as they are
    for the program that is checked and timed.
    """
    chain = next(c for c in toolchains if c.name == built.build.toolchain)
    keep = _symbols_to_keep(built, chain, families, store)
    units = [unit.artefact for unit in built.units]
    command, libraries = driver_command(built, chain, toolchains), trailing_libraries(built, chain, store)
    name = digest(f"whole {FORMAT}", *units, *command, *libraries, *keep)
    plain = read_json(store.artefact(name) / "unit.json")
    if plain is None:
        plain = _make_whole(built, chain, store, keep, [*command], [*libraries], name)
    complaints = read_diagnostics(plain["stderr"], "text")
    proof = Proof(*plain["proof"])
    if plain["why"]:
        return Unit(
            WHOLE, name, REFUSED, plain["why"], plain["seconds"], complaints, None, {}, proof
        )
    sizes, total = plain["sizes"], plain["code_bytes"]
    return Unit(WHOLE, name, COMPILED, "", plain["seconds"], complaints, total, sizes, proof)


def _make_whole(
    built: Built,
    chain: Toolchain,
    store: Store,
    keep: Sequence[str],
    command: list[str],
    libraries: list[str],
    name: str,
) -> dict[str, object]:
    work = store.scratch()
    try:
        objects = [str(store.artefact(unit.artefact) / "code.o") for unit in built.units]
        kept = [f"-Wl,-u,{symbol}" for symbol in keep]
        start = ["-nostartfiles", "-Wl,-e,0", "-Wl,--unresolved-symbols=ignore-all", "-Wl,-q"]
        late = ["-frandom-seed=hot-anvil"] if links_late(built.build.flags) else []
        target = ["-o", str(work / "image")]
        argv = [*command, *objects, *kept, *start, *late, *target, *libraries]
        said = run(argv, store.root, limits.seconds, memory=limits.memory)
        made: dict[str, object] = {"seconds": said.seconds, "stderr": said.stderr, "why": ""}
        proof = Proof(UNKNOWN, "it did not link", 0, 0)
        if said.failed or not (work / "image").is_file():
            lines = [line for line in said.stderr.split("\n") if line.strip()]
            made["why"] = f"linking: {(lines or [said.ending])[-1].strip()}"
        elif find_tool(chain, "objdump") is None:
            made["why"] = f"linking: no disassembler for {chain.target} is here to read it with"
        else:
            code = _read(chain, work, "image", store.root, ())
            code = _own(code, keep)
            from hot_anvil.system.compile import with_titles

            code = with_titles(code, work, built.snippet.languages[0])
            write_json(work / "code.json", to_plain(code))
            proof = _proof(code)
            sizes = object_facts((work / "image").read_bytes()).sizes
            names = {f.name for f in code.functions}
            made["sizes"] = {n: size for n, size in sizes.items() if n in names}
            made["code_bytes"] = sum(i.size for f in code.functions for i in f.instructions) + sum(
                d.size for f in code.functions for d in f.data
            )
        made["proof"] = proof
        write_json(work / "unit.json", made)
        store.keep(work, name)
        return made
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _own(code: Code, keep: Sequence[str]) -> Code:
    """Return the functions that come from the snippet: named, or with lines of its files."""
    wanted = set(keep)
    functions = [
        f
        for f in code.functions
        if f.name != OUTSIDE
        and (f.owner in wanted or any(not i.file.startswith("/") for i in f.instructions if i.file))
    ]
    files = {i.file: None for f in functions for i in f.instructions if i.file}
    return code._replace(functions=tuple(functions), files=tuple(files))


def _symbols_to_keep(
    built: Built, chain: Toolchain, families: Sequence[Family], store: Store
) -> tuple[str, ...]:
    """Return the symbols that must stay callable: the entries, or all that can be called."""
    from hot_anvil.system.interface import read_interface

    family = next(f for f in families if f.name == chain.family)
    known = read_interface(built.snippet, built.build, chain, family, store)
    entries = built.snippet.entries
    kept = [s.symbol for s in known if not entries or s.name in entries or s.symbol in entries]
    return tuple(dict.fromkeys(kept))


def with_chains(code: Code, unit: Unit, chain: Toolchain, store: Store) -> Code:
    """Return a unit's code with the calls that each instruction was inlined through.

    They stand in the debug info only, so the object is linked alone and read
    once; the result is kept. Without a linker for the target the code comes
    back as it is.
    """
    if code.isa == "ptx" or code.view != "emitted" or not unit.artefact:
        return code
    name = digest(f"chains {FORMAT}", unit.artefact)
    kept = read_json(store.artefact(name) / "chains.json")
    if kept is not None:
        return from_plain(kept)
    work = store.scratch()
    try:
        shutil.copy(store.artefact(unit.artefact) / "code.o", work / "code.o")
        linked = _link_alone(chain, work, "code.o")
        if linked:
            data = (work / linked).read_bytes()
            moved = _moves(read_symbols((work / "code.o").read_bytes()), read_symbols(data))
            lines = DebugLines(data, store.root)
            functions = tuple(_with_inlined(f, moved.get(f.name), lines) for f in code.functions)
            code = code._replace(functions=functions)
        for file in work.iterdir():
            file.unlink()
        write_json(work / "chains.json", to_plain(code))
        store.keep(work, name)
        return code
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _moves(before: Sequence[Symbol], after: Sequence[Symbol]) -> dict[str, int]:
    """Return by how much linking moved each function."""
    placed = {s.name: s.address for s in after if s.kind == "FUNC"}
    return {s.name: placed[s.name] - s.address for s in before if s.name in placed}


def _with_inlined(function: Function, moved: int | None, lines: DebugLines) -> Function:
    if moved is None:
        return function

    def full(i: Instruction) -> Instruction:
        found = lines.inlined(i.address + moved) if i.address >= 0 else None
        return i._replace(function=found.function, chain=found.chain) if found else i

    return function._replace(instructions=tuple(map(full, function.instructions)))
