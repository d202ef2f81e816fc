"""A build's sources linked to one image: the linked view, and code made only then."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from hot_anvil.core.arch import has_objects
from hot_anvil.core.binary.elf import object_facts
from hot_anvil.core.binary.image import OUTSIDE
from hot_anvil.core.build.records import COMPILED, REFUSED, Built, Unit
from hot_anvil.core.code.records import Code
from hot_anvil.core.code.stored import to_plain
from hot_anvil.core.proof.records import UNKNOWN, Proof
from hot_anvil.core.toolchain.messages import read_diagnostics
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.build.jobs import links_late
from hot_anvil.system.build.link_command import driver_command, trailing_libraries
from hot_anvil.system.build.reading_back import bare_link, proof_of, read_linked
from hot_anvil.system.process.running import run
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest, digest_file, read_json, write_json
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.binutils import find_tool

WHOLE = "(linked)"  # stands for the sources of a linked unit
_AFTERWARDS = (
    "collect2:",
    "clang: error: linker",
    "clang++: error: linker",
)  # say only that it failed
_IMAGE = ("-nostartfiles", "-Wl,-e,0", "-Wl,--unresolved-symbols=ignore-all", "-Wl,-q")


def link_whole(
    built: Built, toolchains: Sequence[Toolchain], families: Sequence[Family], store: Store
) -> Unit:
    """Link the units of a build to one image and read its code back from that.

    The functions that can be called from outside stay callable, as they are
    for the program that is checked and timed.
    """
    chain = next(c for c in toolchains if c.name == built.build.toolchain)
    keep: tuple[str, ...] = ()
    if links_late(built.build.flags):
        keep = _symbols_to_keep(built, chain, families, store)
    objects = [store.artefact(unit.artefact).object for unit in built.units]
    family = next(f for f in families if f.name == chain.family)
    late = links_late(built.build.flags)
    debug = family.debug_for(chain.target) if late else ()
    argv = _link_argv(built, chain, toolchains, objects, keep, store)
    argv += debug if argv else ()
    named = _named_in(built.snippet.link_flags, store.root)
    units = (unit.artefact for unit in built.units)
    name = digest(f"whole {stage_digest('code')}", *units, *argv, *named)
    plain = read_json(store.artefact(name).unit) if store.holds(name) else None
    if plain is None:
        plain = _make_whole(built, chain, store, argv, keep, name)
    complaints = read_diagnostics(plain["stderr"], "text")
    proof = Proof(*plain["proof"])
    why, seconds = plain["why"], plain["seconds"]
    if why:
        return Unit(WHOLE, name, REFUSED, why, seconds, complaints, None, {}, proof)
    sizes, total = plain["sizes"], plain["code_bytes"]
    return Unit(WHOLE, name, COMPILED, "", seconds, complaints, total, sizes, proof)


def _link_argv(
    built: Built,
    chain: Toolchain,
    toolchains: Sequence[Toolchain],
    objects: Sequence[Path],
    keep: Sequence[str],
    store: Store,
) -> list[str]:
    """Return the link command, but for its output; empty where there is no linker."""
    names = [str(path) for path in objects]
    native = chain.can["run"] and not any(f in ("-m32", "-mx32") for f in built.build.flags)
    if not has_objects(chain.isa) or not all(path.is_file() for path in objects):
        return []
    if not native and chain.family != "gcc":
        linker = find_tool(chain, "ld")
        start = bare_link(chain, linker, objects[0]) if linker else []
        own = _for_linker(built.snippet.link_flags)
        whole = [*start, "-q", *own, *names]
        return whole if start and not links_late(built.build.flags) else []
    command = driver_command(built, chain, toolchains)
    kept = [f"-Wl,-u,{symbol}" for symbol in keep]
    late = ["-frandom-seed=hot-anvil"] if links_late(built.build.flags) else []
    libraries = trailing_libraries(built, chain, store)
    if not native:  # of other targets only what the compiler itself brings
        own = list(built.snippet.link_flags)
        libraries = [*own, "-nostdlib", *([] if chain.can["run"] else ["-lgcc"])]
    return [*command, *names, *kept, *_IMAGE, *late, *libraries]


def _for_linker(flags: Sequence[str]) -> list[str]:
    """Return what a driver passes on of link flags, for a linker that is called by itself."""
    out: list[str] = []
    after = ""
    for flag in flags:
        if flag.startswith("-Wl,"):
            out += flag.split(",")[1:]
        elif after in ("-T", "-Xlinker") or flag.startswith(("-T", "-L", "-l")):
            out.append(flag)
        after = flag
    return out


def _named_in(flags: Sequence[str], root: str) -> list[str]:
    """Return digests of the files that link flags name: a linker script that is edited counts."""
    words = [part for flag in flags for part in flag.split(",")]
    parts = {p for word in words for p in (word, word.removeprefix("-T"), word.partition("=")[2])}
    found = (digest_file(Path(root, part)) for part in sorted(filter(None, parts)))
    return [one for one in found if one]


def _make_whole(
    built: Built, chain: Toolchain, store: Store, argv: list[str], keep: Sequence[str], name: str
) -> dict[str, Any]:
    if not argv or find_tool(chain, "objdump") is None:
        why = f"linking: no linker or disassembler that knows {chain.target} is here for this"
        proof = Proof(UNKNOWN, why, 0, 0)
        return {"why": why, "seconds": 0.0, "stderr": "", "proof": proof}
    with store.workplace() as work:
        said = run(
            [*argv, "-o", str(Artefact(work).image)],
            store.root,
            current_scope().limits.seconds,
            memory=current_scope().limits.memory,
        )
        proof = Proof(UNKNOWN, "it did not link", 0, 0)
        made: dict[str, Any] = {"seconds": said.seconds, "stderr": said.stderr, "why": ""}
        if said.failed or not Artefact(work).image.is_file():
            lines = [
                line.strip()
                for line in said.stderr.split("\n")
                if line.strip() and not line.startswith(_AFTERWARDS)
            ]
            telling = [line for line in lines if "error" in line.lower() or "undefined" in line]
            made["why"] = f"linking: {(telling or lines or [said.ending])[0]}"
        else:
            proof = _read_back(built, chain, work, store.root, keep, made)
        made["proof"] = proof
        write_json(Artefact(work).unit, made)
        store.keep(work, name)
        return made


def _read_back(
    built: Built, chain: Toolchain, work: Path, root: str, keep: Sequence[str], made: dict[str, Any]
) -> Proof:
    """Read the code of ``image`` in ``work`` and note its sizes in ``made``."""
    from hot_anvil.system.build.compiling import with_titles

    compiled = {name for unit in built.units for name in unit.sizes}
    code = _own(read_linked(chain, work, "image", root, ()), {*keep, *compiled})
    code = with_titles(code, work, built.snippet.languages[0])
    write_json(Artefact(work).code, to_plain(code))
    sizes = object_facts(Artefact(work).image.read_bytes()).sizes
    names = {f.name for f in code.functions}
    made["sizes"] = {n: size for n, size in sizes.items() if n in names}
    made["code_bytes"] = sum(i.size for f in code.functions for i in f.instructions) + sum(
        d.size for f in code.functions for d in f.data
    )
    return proof_of(code)


def _own(code: Code, names: set[str]) -> Code:
    """Return the functions that come from the snippet: by name, or with lines of its files."""
    functions = [
        f
        for f in code.functions
        if f.name != OUTSIDE
        and (f.owner in names or any(not i.file.startswith("/") for i in f.instructions if i.file))
    ]
    files = {i.file: None for f in functions for i in f.instructions if i.file}
    return code._replace(functions=tuple(functions), files=tuple(files))


def _symbols_to_keep(
    built: Built, chain: Toolchain, families: Sequence[Family], store: Store
) -> tuple[str, ...]:
    """Return the symbols that must stay callable: the entries, or all that can be called."""
    from hot_anvil.system.build.signatures import read_interface

    family = next(f for f in families if f.name == chain.family)
    known = read_interface(built.snippet, built.build, chain, family, store)
    entries = built.snippet.entries
    kept = [s.symbol for s in known if not entries or s.name in entries or s.symbol in entries]
    return tuple(dict.fromkeys(kept))
