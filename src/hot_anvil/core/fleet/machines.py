"""Machines, what each has, and which of them may be compared."""

import re
from collections.abc import Iterable, Mapping, Sequence
from hashlib import blake2b
from typing import NamedTuple

from hot_anvil.core.arch import isa_name, needs_of, standard_levels
from hot_anvil.core.code.records import Function
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

MEASURE, COMPILE = "measure", "compile"  # what a worker may offer, as the engine names it


class Compiler(NamedTuple):
    """A toolchain as one machine has it."""

    name: str
    version: str
    content: str  # equal for the very same compiler: a digest of its programs


class Machine(NamedTuple):
    """One machine of a fleet, as it tells of itself."""

    name: str
    identity: str  # short; equal for the same machine
    processor: str  # its model, as the system names it
    architecture: str  # such as x86_64
    features: frozenset[str]  # as the system names them
    cores: int
    memory: int  # bytes
    system: str  # distribution and its version, C library, kernel
    load: float  # processes that wanted to run, over the last minute
    compilers: tuple[Compiler, ...] = ()
    pretended: bool = False  # by the setting for tests: it is another machine in truth

    @property
    def level(self) -> str:
        """The newest standard level whose features it has, "" where no levels are known."""
        isa = isa_name(self.architecture)
        needs, levels = needs_of(isa), standard_levels(isa)
        found = levels[0] if levels else ""
        for level in levels[1:]:
            if not needs or not needs.levels.get(level, frozenset("?")) <= self.features:
                break
            found = level
        return found

    @property
    def comparable(self) -> str:
        """A text that is equal for machines whose times may be compared."""
        parts = (self.processor, self.architecture, " ".join(sorted(self.features)), self.system)
        return blake2b("\n".join(parts).encode(), digest_size=8).hexdigest()

    @property
    def text(self) -> str:
        """What it is, in words."""
        return f"{self.processor}, {self.cores} CPU{'' if self.cores == 1 else 's'}"


class MachineClass(NamedTuple):
    """Machines whose times may be compared: same processor model, features and system."""

    name: str
    machines: tuple[Machine, ...]

    @property
    def processor(self) -> str:
        """The model of their processor."""
        return self.machines[0].processor

    @property
    def text(self) -> str:
        """What it is, in words, as results are kept under."""
        plural = "" if len(self.machines) == 1 else "s"
        return f"{len(self.machines)} machine{plural}: {self.processor}"

    @property
    def features(self) -> frozenset[str]:
        """What their processor has."""
        return self.machines[0].features


def machine_classes(machines: Iterable[Machine]) -> tuple[MachineClass, ...]:
    """Return the classes of machines, in the order that these come in.

    A class goes by its processor; where several have the same, by a number too.
    """
    by_key: dict[str, list[Machine]] = {}
    for one in machines:
        by_key.setdefault(one.comparable, []).append(one)
    names = class_names(same[0].processor for same in by_key.values())
    return tuple(map(MachineClass, names, map(tuple, by_key.values())))


def class_names(processors: Iterable[str]) -> list[str]:
    """Return a name for the class of each processor; a second one of a name gets a number."""
    taken: dict[str, int] = {}
    out = []
    for processor in processors:
        name = _short_name(processor)
        taken[name] = taken.get(name, 0) + 1
        out.append(f"{name}-{taken[name]}" if taken[name] > 1 else name)
    return out


def must_be_classes(names: Iterable[str], known: Sequence[str]) -> None:
    """Raise RequestError, about the weights, for what is the name of no class."""
    for name in names:
        if name not in known:
            hint = did_you_mean(name, known) or f" They are: {listed(known)}."
            raise RequestError(f"there is no class '{name}'.{hint}", about="weights")


def _short_name(processor: str) -> str:
    """Return the name of a processor as one word to type."""
    plain = re.sub(r"\((?:R|TM|r|tm)\)|\bCPU\b|\b[Pp]rocessor\b|@.*", " ", processor)
    words = re.findall(r"[a-z0-9]+", plain.lower())
    return "-".join(words) or "machine"


def needs_of_code(functions: Iterable[Function], isa: str) -> frozenset[str]:
    """Return the features that code needs, of those that are known; see core/arch.

    Empty where the code asks itself what the processor has: then parts of it may never run.
    """
    needs = needs_of(isa)
    if needs is None:
        return frozenset()
    found: set[str] = set()
    for function in functions:
        for instruction in function.instructions:
            if needs.asks.search(instruction.text):
                return frozenset()
            found |= needs.of(instruction)
    return frozenset(found)


def cannot_run(needed: frozenset[str], machine: Machine) -> str:
    """Return why a machine cannot run code that needs these features, "" where it may."""
    lacking = sorted(needed - machine.features)
    if not lacking or not machine.features:
        return ""
    return f"it needs {listed(lacking)}, and {machine.processor} has not"


def who_has(content: str, machines: Mapping[str, Machine]) -> tuple[str, ...]:
    """Return the names of the workers whose machine has the very same compiler."""
    return tuple(
        worker
        for worker, machine in machines.items()
        if any(compiler.content == content for compiler in machine.compilers)
    )
