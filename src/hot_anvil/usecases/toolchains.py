"""The compilers of this machine, what each can do, and where each thing comes from."""

from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.arch import image_kind_of
from hot_anvil.core.config.records import Bench
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.bench.opening import open_bench_file
from hot_anvil.system.bench.settings import load_settings, settings_file
from hot_anvil.system.build.bare_objects import is_bare
from hot_anvil.system.build.board_linking import board_linker
from hot_anvil.system.build.chip_linking import simulator_lacks
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.execute.emulation import Emulation, emulation_of
from hot_anvil.system.store.files import user_cache
from hot_anvil.system.store.store import tools_store
from hot_anvil.system.toolchain.finding import Found, find_toolchains, with_abilities


class Machine(NamedTuple):
    """What a look at this machine gave."""

    families: tuple[Family, ...]
    toolchains: tuple[Toolchain, ...]
    silent: tuple[tuple[str, str], ...]  # commands that look like a compiler and are none, and why
    places: tuple[tuple[str, str], ...]  # what comes from where
    lacking: Mapping[str, str]  # toolchain -> what running its code here needs, "" for nothing


def find_machine(path: Path | None = None, trust: bool = False) -> Machine:
    """Return the compilers of this machine, with those that a bench names."""
    bench = open_bench_file(path, trust) if path else None
    custom = bench.custom if bench else load_settings().custom
    found = find_toolchains(custom, bench.root if bench else ".")
    ways = [(chain, emulation_of(chain, found.toolchains)) for chain in found.toolchains]
    whys = {chain.name: _why_not(chain, way, found) for chain, way in ways}
    able = tuple(_able(chain, way, whys[chain.name]) for chain, way in ways)
    return Machine(found.families, able, found.silent, tuple(_places(found, bench)), whys)


def _able(chain: Toolchain, way: Emulation, why_not: str) -> Toolchain:
    runs = way.possible and not (way.chip and why_not)
    return with_abilities(chain, runs, runs and way.chip)


def _why_not(chain: Toolchain, way: Emulation, found: Found) -> str:
    """Return what is missing to run all code of a toolchain for another machine, "" for nothing."""
    if chain.can["run"] or not image_kind_of(chain.target):
        return ""
    if not way.possible:
        return way.why
    store = tools_store()
    if way.chip and store and any(c.can["run"] and "c" in c.drivers for c in found.toolchains):
        return simulator_lacks(chain, host_toolchain(found.toolchains), store)
    if not is_bare(chain) or way.board:
        return ""
    return f"{board_linker(chain, found.toolchains)}, for what only the chip itself can do"


def _places(found: Found, bench: Bench | None) -> list[tuple[str, str]]:
    """Return what came from where: settings, defaults, toolchains."""
    file = settings_file()
    own = load_settings()
    places = [
        ("your settings", f"{file}" + ("" if file.is_file() else " (not there: none)")),
        ("answers of compilers", str(user_cache() / "toolchains.json")),
        ("what calls the code, compiled", str(user_cache() / "tools")),
    ]
    # A bench's values lie over the person's: what is the same came from them.
    custom = bench.custom if bench else own.custom
    defaults = bench.defaults if bench else own.defaults
    theirs = bench.file if bench else ""
    named = {c.name: str(file) if c in own.custom else theirs for c in custom}
    for key, value in defaults.items():
        place = str(file) if own.defaults.get(key) == value else theirs
        places.append((f"default {key} = {value}", place))
    for chain in found.toolchains:
        if "@" in chain.name:
            continue
        paths = ", ".join(dict.fromkeys(driver.path for driver in chain.drivers.values()))
        source = f" ({named[chain.name]})" if chain.name in named else ""
        places.append((chain.name, paths + source))
    return places
