"""Instruction sets: all that is particular to one stands in its folder, behind one record.

A folder beside this file is one instruction set. Its ``__init__`` names the targets it is for, and
whether there are objects of it, so that finding one loads no other; its ``architecture`` holds the
record.
"""

import re
from functools import cache
from importlib import import_module
from os import listdir
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hot_anvil.core.arch.costs import Costs
    from hot_anvil.core.arch.images import ImageKind
    from hot_anvil.core.arch.operations import Evaluation
    from hot_anvil.core.arch.records import Architecture, Needs, Semantics, Syntax
    from hot_anvil.core.arch.state import MachineState

SYNTAXES = ("att", "intel")  # those that a person may choose between, the compilers' own first


@cache
def names() -> tuple[str, ...]:
    """Return the instruction sets that are known, in alphabetical order."""
    # The library's own walk takes a twentieth of a warm diff to load.
    inside = [name for folder in __path__ for name in listdir(folder)]  # noqa: PTH208
    return tuple(sorted(name for name in inside if name.isidentifier() and name[0] != "_"))


@cache
def isa_name(target: str) -> str:
    """Return the name of the instruction set of a target triple, "" for an unknown one."""
    for name in names():
        if re.match(import_module(f"{__name__}.{name}").TARGETS, target):
            return name
    return ""


@cache
def architecture(name: str) -> "Architecture":
    """Return the instruction set of this name."""
    found: Architecture = import_module(f"{__name__}.{name}.architecture").ARCHITECTURE
    return found


@cache
def image_kinds() -> "tuple[tuple[str, ImageKind], ...]":
    """Return every kind of linked image that is known, with its instruction set."""
    modules = ((name, import_module(f"{__name__}.{name}")) for name in names())
    return tuple((name, kind) for name, m in modules for kind in getattr(m, "IMAGES", ()))


def image_kind(machine: int, bits: int) -> "ImageKind | None":
    """Return the kind of images with these two fields in their header, None for an unknown one."""
    found = (kind for _, kind in image_kinds() if (kind.machine, kind.bits) == (machine, bits))
    return next(found, None)


def image_kind_of(target: str) -> "ImageKind | None":
    """Return the kind of images for a target triple, None where none is known."""
    isa, bits = isa_name(target), 64 if "64" in target.split("-")[0] else 32
    return next((kind for name, kind in image_kinds() if (name, kind.bits) == (isa, bits)), None)


def syntax_of(name: str) -> "Syntax":
    """Return how an instruction set is written."""
    return architecture(name).syntax


def semantics_of(name: str) -> "Semantics":
    """Return what the instructions of an instruction set do."""
    return architecture(name).semantics


@cache
def evaluation_of(name: str) -> "Evaluation":
    """Return how an instruction set's code is evaluated."""
    found: Evaluation = import_module(f"{__name__}.{name}.operations").EVALUATION
    return found


@cache
def state_of(name: str) -> "MachineState":
    """Return what is recorded of a processor of an instruction set that is stepped through."""
    found: MachineState = import_module(f"{__name__}.{name}.state").STATE
    return found


@cache
def costs_of(name: str) -> "Costs | None":
    """Return the cycles of an instruction set's instructions, None where they are not fixed."""
    if not name or not getattr(import_module(f"{__name__}.{name}"), "CYCLES_ARE_FIXED", False):
        return None
    found: Costs = import_module(f"{__name__}.{name}.cycles").COSTS
    return found


def has_objects(name: str) -> bool:
    """Tell whether tools here make and read objects of an instruction set."""
    if not name:
        return True  # nobody here knows it: its own tools have to tell
    has: bool = import_module(f"{__name__}.{name}").HAS_OBJECT
    return has


def standard_levels(name: str) -> tuple[str, ...]:
    """Return the standard levels of an instruction set's processors, the oldest first."""
    found: tuple[str, ...] = getattr(import_module(f"{__name__}.{name}"), "LEVELS", ())
    return found


def needs_of(name: str) -> "Needs | None":
    """Return what tells the features that an instruction set's code needs, None where none does."""
    if not name or not getattr(import_module(f"{__name__}.{name}"), "NEEDS_ARE_KNOWN", False):
        return None
    found: Needs = import_module(f"{__name__}.{name}.needs").NEEDS
    return found


def words_file(name: str) -> str:
    """Return the path of the sentences on an instruction set's instructions."""
    folder: str = import_module(f"{__name__}.{name}").__path__[0]
    return f"{folder}/words.toml"
