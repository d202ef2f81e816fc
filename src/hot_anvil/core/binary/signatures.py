"""What an entry takes and returns, read from debug info (DWARF)."""

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.binary.call_types import passed_type, type_of
from hot_anvil.core.binary.dwarf import open_dwarf
from hot_anvil.core.binary.types import Type, both_whole, declared, same_bytes
from hot_anvil.core.binary.variable_types import lookup, text_of
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError


class Parameter(NamedTuple):
    """One parameter of an entry."""

    name: str
    type: Type

    @property
    def writable(self) -> bool:
        """True for a pointer through which the entry may write."""
        return self.type.kind == "pointer" and not (self.type.to and self.type.to.const)


class Through(NamedTuple):
    """How a driver calls an entry that takes more than values can be made for."""

    prepare: "Signature"
    call: str  # symbol
    result: "Signature | None"  # its first parameter is what prepare made
    release: str  # symbol, "" without


class Signature(NamedTuple):
    """How to call one function."""

    name: str  # as in the source
    symbol: str  # as in the object
    returns: Type
    parameters: tuple[Parameter, ...]
    file: str
    line: int
    through: Through | None = None  # then returns and parameters are the driver's

    @property
    def callable_with_values(self) -> bool:
        """Tell whether every parameter can be given and the result compared."""
        returned = self.returns.kind == "void" or self.returns.callable_with
        return returned and all(p.type.callable_with for p in self.parameters)

    @property
    def text(self) -> str:
        """The declaration in one line."""
        inside = ", ".join(f"{declared(p.type)}{p.name}" for p in self.parameters) or "void"
        return f"{declared(self.returns)}{self.name}({inside})"


def differs_in(one: Signature, other: Signature) -> str:
    """Return what two machines' forms of one function take or return in ways that differ.

    "" where each value here is one there too, by its bytes or, for whole numbers, by conversion.
    """
    if len(one.parameters) != len(other.parameters):
        return "it has other parameters"
    for here, there in zip(one.parameters, other.parameters, strict=True):
        if not _passes(here.type, there.type):
            return f"parameter {here.name} ({_in_bytes(here.type)}) is {_in_bytes(there.type)}"
    if not _passes(one.returns, other.returns):
        return f"what it returns ({_in_bytes(one.returns)}) is {_in_bytes(other.returns)}"
    return ""


def _passes(one: Type, other: Type) -> bool:
    return same_bytes(one, other) or both_whole(one, other)


def _in_bytes(kind: Type) -> str:
    last = kind.to if kind.kind == "pointer" and kind.to else kind
    return f"{kind.name}, of {last.size} bytes" if last is kind else f"to {last.size} bytes"


def read_signatures(data: bytes) -> tuple[Signature, ...]:
    """Return the functions that an object with full debug info lets others call."""
    _, dwarf = open_dwarf(data)
    if dwarf is None:
        return ()
    out = []
    for unit in dwarf.iter_CUs():
        files = _file_names(dwarf, unit)
        for die in _definitions(unit.get_top_DIE()):
            out.append(_signature(die, files))
    return tuple(sorted(out, key=lambda signature: signature.line))


def find_entries(
    names: Sequence[str], known: Sequence[Signature], sources: Sequence[str]
) -> tuple[Signature, ...]:
    """Return the signatures of the entries named, or of the only function there is.

    Several functions are no entries by themselves: entries of one snippet are
    rivals, and nobody said that these compute the same. Raises RequestError
    that lists what the sources do have.
    """
    where = listed(sources)
    if not known:
        rust = any(source.endswith(".rs") for source in sources)
        why = " rustc makes code only for what is pub and not generic." if rust else ""
        raise RequestError(f"{where}: no function here can be called from outside.{why}")
    if not names and len(known) > 1:
        raise RequestError(
            f"{where}: several functions can be called: {listed(s.name for s in known)}. Name the "
            "one to run as the entry; several entries are rivals, which must compute the same.",
            about="entries",
        )
    if not names:
        return tuple(known)
    by_name = {signature.name: signature for signature in known}
    by_name.update({signature.symbol: signature for signature in known})
    for name in names:
        if name not in by_name:
            raise RequestError(
                f"{where}: there is no function '{name}' that can be called from outside."
                f"{did_you_mean(name, by_name)} Those that can: {listed(dict.fromkeys(by_name))}."
            )
    return tuple(by_name[name] for name in names)


def _definitions(scope: Any) -> Iterator[Any]:
    """Give the functions of a scope that others can call."""
    for die in scope.iter_children():
        if die.tag == "DW_TAG_subprogram" and _is_callable_definition(die):
            yield die
        elif die.tag in ("DW_TAG_namespace", "DW_TAG_module"):
            yield from _definitions(die)


def _is_callable_definition(die: Any) -> bool:
    # What is inlined elsewhere too has its name and type at its abstract origin.
    has_code = "DW_AT_low_pc" in die.attributes or "DW_AT_ranges" in die.attributes
    return has_code and bool(lookup(die, "DW_AT_external"))


def _signature(die: Any, files: dict[int, str]) -> Signature:
    name = text_of(lookup(die, "DW_AT_name"))
    linkage = text_of(lookup(die, "DW_AT_linkage_name"))
    parameters: list[Parameter] = []
    for child in die.iter_children():
        if child.tag == "DW_TAG_formal_parameter":
            label = text_of(lookup(child, "DW_AT_name")) or f"arg{len(parameters) + 1}"
            parameters.append(Parameter(label, passed_type(child)))
    return Signature(
        name,
        linkage or name,
        type_of(die),
        tuple(parameters),
        files.get(lookup(die, "DW_AT_decl_file") or 0, ""),
        lookup(die, "DW_AT_decl_line") or 0,
    )


def _file_names(dwarf: Any, unit: Any) -> dict[int, str]:
    program = dwarf.line_program_for_CU(unit)
    if program is None:
        return {}
    first = 0 if program.header["version"] >= 5 else 1
    entries = program.header["file_entry"]
    return {index + first: text_of(entry.name) for index, entry in enumerate(entries)}
