"""Find the compilers of this machine and ask each what it is, once."""

import os
import re
import time
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from hot_anvil.core.arch import has_objects
from hot_anvil.core.config.records import CustomToolchain
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.toolchain.records import (
    Driver,
    Family,
    Toolchain,
    family_from_table,
    group_drivers,
    named_targets,
    read_identity,
    retarget,
    runs_natively,
    split_command,
)
from hot_anvil.errors import MissingError, RequestError
from hot_anvil.system.store.files import digest, parse_toml, user_cache
from hot_anvil.system.store.seals import read_sealed, write_sealed
from hot_anvil.system.toolchain.fronts import front_state, real_compiler

_FORMAT = 3
_ASKED_AGAIN = 300  # seconds after which what did not answer is asked once more
_DATA = Path(__file__).parent.parent.parent / "data" / "toolchains"


class Found(NamedTuple):
    """What a look at this machine gave."""

    families: tuple[Family, ...]
    toolchains: tuple[Toolchain, ...]
    silent: tuple[tuple[str, str], ...]  # (path, why it is no usable compiler)


def load_families() -> tuple[Family, ...]:
    """Return the families that the data files describe."""
    files = sorted(_DATA.glob("*.toml"))
    return tuple(family_from_table(parse_toml(file.read_text())) for file in files)


def find_toolchains(custom: Sequence[CustomToolchain] = (), root: str = ".") -> Found:
    """Find every compiler on PATH and those a bench names itself.

    A compiler is asked for its version only when its files changed since it
    was last asked; the answers are kept in the user's cache folder.
    """
    families = load_families()
    by_name = {family.name: family for family in families}
    cache = _ProbeCache(root)
    drivers = []
    silent = []
    machine = os.uname().machine
    for command, path in _commands_on_path(families):
        split = split_command(command, families)
        if split is None:
            continue
        family, language, prefix = split
        driver = cache.ask(path, command, family, language)
        if isinstance(driver, str):
            silent.append((path, driver))
        elif not prefix or (
            driver.target.startswith(prefix) and not runs_natively(driver.target, machine)
        ):
            drivers.append(driver)
    chains = list(group_drivers(drivers, by_name, machine))
    chains += [
        retarget(chain, target, runs_natively(target.triple, machine))
        for chain in chains
        for target in by_name[chain.family].targets.values()
        if any(target.needs in driver.backs for driver in chain.drivers.values())
    ]
    for item in custom:
        chains.append(_custom_toolchain(item, root, families, cache, machine))
    cache.save()
    return Found(families, tuple(chains), tuple(silent))


def with_abilities(chain: Toolchain, emulated: bool, on_chip: bool) -> Toolchain:
    """Return a toolchain that knows all it can do here; most commands need not look.

    ``emulated``: what it makes runs here though it is for another machine; ``on_chip``: in the
    simulator of a whole chip.
    """
    from shutil import which

    from hot_anvil.system.toolchain.binutils import emulator_command, find_tool

    can = {
        **chain.can,
        "assemble": has_objects(chain.isa),
        "disassemble": bool(find_tool(chain, "objdump")),
        "link": bool(find_tool(chain, "ld")),
        "emulate": emulated,
        "cycles": on_chip,
        "count": (emulated and not on_chip)
        or (chain.can["run"] and which(emulator_command()) is not None),
    }
    return chain._replace(can=can)


def _commands_on_path(families: Sequence[Family]) -> list[tuple[str, str]]:
    """Return (command, path) for the compilers on PATH, as a shell would find them."""
    names = "|".join(re.escape(name) for family in families for name in family.commands)
    pattern = re.compile(rf"(?:[\w.]+-)*(?:{names})(?:-\d+(?:\.\d+)*)?")
    found: dict[str, str] = {}
    for folder in os.environ.get("PATH", "").split(os.pathsep):
        try:
            entries = os.listdir(folder or ".")  # noqa: PTH208 - twice as fast on big folders
        except OSError:
            continue
        for name in entries:
            if name not in found and pattern.fullmatch(name):
                path = os.path.join(folder, name)  # noqa: PTH118
                if os.access(path, os.X_OK):
                    found[name] = path
    return sorted(found.items())


def _custom_toolchain(
    item: CustomToolchain, root: str, families: Sequence[Family], cache: "_ProbeCache", machine: str
) -> Toolchain:
    by_name = {family.name: family for family in families}
    family = by_name.get(item.family)
    where = f"toolchain.{item.name}"
    if family is None:
        raise RequestError(
            f"{where}.family: '{item.family}' is unknown.{did_you_mean(item.family, by_name)} "
            f"Known: {listed(by_name)}."
        )
    path = str(Path(root, item.command))
    if not os.access(path, os.X_OK):
        raise RequestError(f"{where}.command: {path} is not a program that can be run.")
    drivers: dict[str, Driver] = {}
    languages = list(dict.fromkeys((*family.commands.values(), *family.also)))
    driver = cache.ask(path, item.command, family, languages[0])
    if not isinstance(driver, Driver):
        raise RequestError(f"{where}.command: {path}: {driver}.")
    for language in languages:
        drivers[language] = driver._replace(language=language)
    first = next(iter(drivers.values()))
    target = item.target or [first.target, *named_targets(item.flags)][-1]
    native = runs_natively(target, machine)
    can = {"compile": True, "link": native, "run": native}
    binutils = item.binutils if item.binutils is not None else "" if native else target
    return Toolchain(
        item.name, (), family.name, first.version, target, drivers, can, binutils, item.flags
    )


def programs_of(path: str) -> tuple[str, ...]:
    """Return the programs that a compiler at ``path`` is made of, as far as it tells.

    They are known of every compiler that was found here; of another only itself.
    """
    answers = user_cache() / "toolchains.json"
    state = answers.stat() if answers.exists() else None
    files = _files_known(answers, state.st_mtime_ns if state else 0).get(path, (path,))
    return tuple(dict.fromkeys(str(Path(file).resolve()) for file in files))


@lru_cache(maxsize=1)
def _files_known(answers: Path, _written: int) -> Mapping[str, Sequence[str]]:
    """Return the files that compilers told of: path -> files; read once while it is unchanged."""
    stored = read_sealed(answers)
    known = stored.get("known", {}) if isinstance(stored, dict) else {}
    return {key.split(" ", 2)[2]: kept["files"] for key, kept in known.items()}


class _ProbeCache:
    """Answers of compilers, kept under the state of the files they came from."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.path = user_cache() / "toolchains.json"
        stored = read_sealed(self.path)
        usable = isinstance(stored, dict) and stored.get("format") == _FORMAT
        self.known: dict[str, dict[str, object]] = stored["known"] if usable else {}
        self.changed = False

    def ask(self, path: str, command: str, family: Family, language: str) -> Driver | str:
        """Return the driver at ``path``, or a text that says why it is none."""
        key = f"{family.name} {language} {path}"
        kept = self.known.get(key)
        front = front_state(family.front, self.root)
        if kept is None or not _holds(kept, front):
            kept = self.known[key] = {**_probe(path, family, self.root), "front": front}
            self.changed = True
        if "why" in kept:
            return str(kept["why"])
        version, target = str(kept["version"]), str(kept["target"])
        identity = digest(family.name, version, target, str(kept["state"]), str(kept["front"]))
        backs: tuple[str, ...] = tuple(kept.get("backs", ()))  # type: ignore[arg-type]
        return Driver(command, path, family.name, language, version, target, identity, backs)

    def save(self) -> None:
        """Keep new answers; a cache that cannot be written only costs time."""
        if self.changed:
            try:
                write_sealed(self.path, {"format": _FORMAT, "known": self.known})
            except RequestError:
                return


def _holds(kept: Mapping[str, Any], front: str) -> bool:
    """Tell whether an answer still holds; one that failed may have done so for a moment only."""
    stale = "why" in kept and not 0 <= time.time() - kept.get("asked", 0) < _ASKED_AGAIN
    same = kept["state"] == _state(kept["files"]) and kept.get("front") == front
    return same and not stale


def _probe(path: str, family: Family, root: str) -> dict[str, object]:
    from hot_anvil.system.process.running import run

    files = [path, str(Path(path).resolve())]
    try:
        said = run([path, *family.asks], cwd=root, seconds=20)
    except MissingError as error:
        return _silent(str(error).rstrip("."), files)
    found = read_identity(said.stderr + said.stdout, family)
    if said.failed or found is None:
        why = said.ending if said.failed else f"does not answer like a {family.name} compiler"
        return _silent(why, files)
    helpers = []
    for name in family.helpers:
        helper = _helper(path, name)
        if helper is None:  # it does not answer: no use to ask on
            break
        helpers.append(helper)
    helpers += real_compiler(family.front, path, root)
    files = list(dict.fromkeys([*files, *(helper for helper in helpers if helper)]))
    backs = _backs(path) if family.targets else []
    answer = {"version": found[0], "target": found[1], "backs": backs}
    return {**answer, "files": files, "state": _state(files)}


def _silent(why: str, files: Sequence[str]) -> dict[str, object]:
    return {"why": why, "files": files, "state": _state(files), "asked": time.time()}


def _backs(path: str) -> list[str]:
    """Return the back ends a compiler lists."""
    from hot_anvil.system.process.running import run

    said = run([path, "--print-targets"], cwd="/", seconds=20).stdout
    return re.findall(r"^ +(\S+) +- ", said, re.MULTILINE)


def _helper(path: str, name: str) -> str | None:
    """Return the path of a program behind a driver, "" for none, None without an answer."""
    from hot_anvil.system.process.running import run

    said = run([path, f"-print-prog-name={name}"], cwd="/", seconds=5)
    if said.timed_out:
        return None
    answer = said.stdout.strip()
    from shutil import which

    found = which(answer) if answer else None
    return str(Path(found).resolve()) if found else ""


def _state(files: Iterable[str]) -> str:
    """Return a text that changes whenever one of the files does."""
    parts = []
    for file in files:
        try:
            s = os.stat(file)  # noqa: PTH116
            parts.append(f"{s.st_ino}.{s.st_size}.{s.st_mtime_ns}.{s.st_ctime_ns}")
        except OSError:
            parts.append("gone")
    return " ".join(parts)
