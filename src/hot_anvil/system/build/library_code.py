"""The code of a library function, from the shared or static library it comes from."""

import re
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.arch import architecture
from hot_anvil.core.binary.image import Symbol, read_image, read_symbols
from hot_anvil.core.binary.lines import DebugLines
from hot_anvil.core.code.records import Code, names_of
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import MissingError, RequestError, ToolError
from hot_anvil.system.build.demangling import titles_of
from hot_anvil.system.build.proving import dump
from hot_anvil.system.process.running import run
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.binutils import Tool, find_tool

_SHARED = ("libc.so.6", "libm.so.6", "libgcc_s.so.1", "libstdc++.so.6", "libgfortran.so.5")
_STATIC = ("libgcc.a", "libc.a", "libm.a", "libstdc++.a", "libgfortran.a")


class LibraryCode(NamedTuple):
    """A library function's code and where it was found."""

    path: str
    code: Code
    note: str  # what must be known to read it rightly, "" for nothing


def library_function(
    name: str, chain: Toolchain, flags: Sequence[str], store: Store
) -> LibraryCode:
    """Return the code of a library function; raises RequestError when no library has it."""
    objdump = find_tool(chain, "objdump")
    if objdump is None:
        raise MissingError(f"No disassembler for {chain.target} is here to read a library with.")
    libraries = _libraries(chain, flags)
    for path in libraries:
        if path.endswith(".a"):
            found = _from_archive(path, name, chain, objdump, store)
        else:
            found = _from_shared(path, name, chain, objdump, store)
        if found:
            return found
    looked = ", ".join(libraries) or "none, since the compiler names none"
    raise RequestError(
        f"{name}: no library that {chain.name} links has this function. Looked in: {looked}.",
        about="function",
    )


def _libraries(chain: Toolchain, flags: Sequence[str]) -> list[str]:
    """Return the paths of the libraries that a toolchain links by itself."""
    driver = next(iter(chain.drivers.values()))
    names = (*_SHARED, *_STATIC) if "linux" in chain.target else _STATIC
    out = []
    machine = [flag for flag in flags if flag.startswith("-m")]
    for name in names:
        argv = [driver.path, *chain.flags, *machine, f"-print-file-name={name}"]
        path = run(argv, "/", 20).stdout.strip()
        if path != name and Path(path).is_file():
            out.append(str(Path(path).resolve()))
    return out


def _from_shared(
    path: str, name: str, chain: Toolchain, objdump: Tool, store: Store
) -> LibraryCode | None:
    data = Path(path).read_bytes()
    symbols = read_symbols(data, architecture(chain.isa).tooling.low_bit_is_mode)
    found = _named(symbols, name) or _written(symbols, name, store)
    if found is None:
        return None
    stop = found.address + max(found.size, 1)
    options = ["-d", "-w", f"--start-address={found.address}", f"--stop-address={stop}"]
    with store.workplace() as work:
        (work / "library").symlink_to(path)
        text = dump(objdump, options, work, "library")
    code = read_image(text, [found], DebugLines(b"", ""), chain.isa)
    note = ""
    if found.kind == "GNU_IFUNC":
        note = (
            f"{name} is chosen when the program starts, by this function, to fit the CPU: the code "
            "that runs is another, which a stripped library does not name"
        )
    return LibraryCode(path, code, note)


def _named(symbols: Sequence[Symbol], name: str) -> Symbol | None:
    plain = re.sub(r"@(?:plt|PLT)$", "", name)
    fitting = [
        s
        for s in symbols
        if s.name.partition("@")[0] == plain and s.kind in ("FUNC", "GNU_IFUNC", "NOTYPE")
    ]
    return max(fitting, key=lambda s: s.size, default=None)


def _written(symbols: Sequence[Symbol], name: str, store: Store) -> Symbol | None:
    """Return the symbol of a function that is named as its source, or a listing, writes it."""
    mangled = [s for s in symbols if s.name.startswith("_Z")]
    titles = titles_of([s.name.partition("@")[0] for s in mangled], store)
    wanted = re.sub(r"@(?:plt|PLT)$", "", name)
    fitting = [
        s for s in mangled
        if wanted in names_of(s.name, titles.get(s.name.partition("@")[0], s.name))
    ]  # fmt: skip
    whole = [s for s in fitting if titles.get(s.name.partition("@")[0]) == wanted]
    return max(whole or fitting, key=lambda s: s.size, default=None)


def _from_archive(
    path: str, name: str, chain: Toolchain, objdump: Tool, store: Store
) -> LibraryCode | None:
    with store.workplace() as work:
        (work / "library").symlink_to(path)
        try:
            text = _dump_named(objdump, work, name)
        except ToolError:  # a linker script under the name of an archive, for one
            return None
    code = read_image(text, [], DebugLines(b"", ""), chain.isa, (name,))
    return LibraryCode(path, code, "") if code.total else None


def _dump_named(objdump: Tool, work: Path, name: str) -> str:
    """Disassemble one function of the archive; old tools only know how to do all of it."""
    try:
        return dump(objdump, ["-dr", "-w", f"--disassemble={name}"], work, "library")
    except ToolError:
        return dump(objdump, ["-dr", "-w"], work, "library")
