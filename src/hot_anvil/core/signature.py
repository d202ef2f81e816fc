"""What an entry takes and returns, read from debug info (DWARF)."""

import io
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.debugtypes import lookup
from hot_anvil.core.dwarf import allow_two_byte_addresses
from hot_anvil.core.errors import RequestError
from hot_anvil.core.names import did_you_mean, listed

# DW_ATE_* encodings of the DWARF standard, section 7.8, as kinds of ours.
_ENCODINGS = {2: "bool", 4: "float", 5: "int", 6: "int", 7: "uint", 8: "uint", 16: "uint"}
_DEREF = 0x06  # DW_OP_deref: the value is where the location points to
_FORTRAN = (0x07, 0x08, 0x0E, 0x22, 0x23)  # DW_LANG_Fortran77 to Fortran08
_QUALIFIERS = (
    "DW_TAG_typedef",
    "DW_TAG_volatile_type",
    "DW_TAG_restrict_type",
    "DW_TAG_atomic_type",
)
_POINTERS = ("DW_TAG_pointer_type", "DW_TAG_reference_type", "DW_TAG_rvalue_reference_type")


class Type(NamedTuple):
    """A type as far as calling needs it."""

    kind: str  # "int", "uint", "float", "bool", "pointer", "void" or "other"
    size: int  # bytes
    name: str  # as the source writes it
    const: bool = False
    to: "Type | None" = None  # for a pointer

    @property
    def callable_with(self) -> bool:
        """Tell whether values of this type can be passed and returned."""
        if self.kind == "pointer":
            inner = self.to
            return inner is not None and inner.kind in ("int", "uint", "float", "bool", "void")
        return self.kind in ("int", "uint", "float", "bool") and self.size <= 8


class Parameter(NamedTuple):
    """One parameter of an entry."""

    name: str
    type: Type

    @property
    def writable(self) -> bool:
        """True for a pointer through which the entry may write."""
        return self.type.kind == "pointer" and not (self.type.to and self.type.to.const)


class Signature(NamedTuple):
    """How to call one function."""

    name: str  # as in the source
    symbol: str  # as in the object
    returns: Type
    parameters: tuple[Parameter, ...]
    file: str
    line: int

    @property
    def callable_with_values(self) -> bool:
        """Tell whether every parameter can be given and the result compared."""
        returned = self.returns.kind == "void" or self.returns.callable_with
        return returned and all(p.type.callable_with for p in self.parameters)

    @property
    def text(self) -> str:
        """The declaration in one line."""
        inside = ", ".join(f"{_declared(p.type)}{p.name}" for p in self.parameters) or "void"
        return f"{_declared(self.returns)}{self.name}({inside})"


_VOID = Type("void", 0, "void")


def read_signatures(data: bytes) -> tuple[Signature, ...]:
    """Return the functions that an object with full debug info lets others call."""
    from elftools.elf.elffile import ELFFile

    allow_two_byte_addresses()
    elf = ELFFile(io.BytesIO(data))
    if not elf.has_dwarf_info():
        return ()
    dwarf = elf.get_dwarf_info()
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
        raise RequestError(f"{where}: no function here can be called from outside.")
    if not names and len(known) > 1:
        raise RequestError(
            f"{where}: several functions can be called: {listed(s.name for s in known)}. Name the "
            "one to run as the entry ('entries' in the bench, --entry for a bare source); several "
            "entries are rivals, which must compute the same."
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
    attributes = die.attributes
    external = "DW_AT_external" in attributes
    if not external and "DW_AT_specification" in attributes:
        declared = die.get_DIE_from_attribute("DW_AT_specification")
        external = "DW_AT_external" in declared.attributes
    return external and ("DW_AT_low_pc" in attributes or "DW_AT_ranges" in attributes)


def _signature(die: Any, files: dict[int, str]) -> Signature:
    name = lookup(die, "DW_AT_name").decode()
    linkage = lookup(die, "DW_AT_linkage_name")
    parameters: list[Parameter] = []
    for child in die.iter_children():
        if child.tag == "DW_TAG_formal_parameter":
            label = lookup(child, "DW_AT_name") or f"arg{len(parameters) + 1}".encode()
            parameters.append(Parameter(label.decode(), _passed_type(child)))
    return Signature(
        name,
        linkage.decode() if linkage else name,
        _type_of(die),
        tuple(parameters),
        files.get(lookup(die, "DW_AT_decl_file") or 0, ""),
        lookup(die, "DW_AT_decl_line") or 0,
    )


def _passed_type(parameter: Any) -> Type:
    """Return the type of what is passed; Fortran passes arrays, and most scalars, by reference."""
    if "DW_AT_type" not in parameter.attributes:
        return _type_of(parameter)
    die = parameter.get_DIE_from_attribute("DW_AT_type")
    if die.tag == "DW_TAG_array_type":
        element = _type_of(die)
        return Type("pointer", 8, f"{element.name} *", to=element)
    place = parameter.attributes.get("DW_AT_location")
    by_reference = (
        place is not None
        and isinstance(place.value, list)
        and place.value[-1:] == [_DEREF]
        and parameter.cu.get_top_DIE().attributes["DW_AT_language"].value in _FORTRAN
    )
    passed = _type(die)
    return Type("pointer", 8, f"{passed.name} *", to=passed) if by_reference else passed


def _type_of(die: Any) -> Type:
    for link in ("DW_AT_type", "DW_AT_specification", "DW_AT_abstract_origin"):
        if link in die.attributes:
            inner = die.get_DIE_from_attribute(link)
            return _type(inner) if link == "DW_AT_type" else _type_of(inner)
    return _VOID


def _type(die: Any) -> Type:
    tag, attributes = die.tag, die.attributes
    size = attributes["DW_AT_byte_size"].value if "DW_AT_byte_size" in attributes else 0
    name = attributes["DW_AT_name"].value.decode() if "DW_AT_name" in attributes else ""
    if tag == "DW_TAG_base_type":
        kind = _ENCODINGS.get(attributes["DW_AT_encoding"].value, "other")
        return Type(kind, size, name)
    if tag == "DW_TAG_const_type":
        return _type_of(die)._replace(const=True)
    if tag in _QUALIFIERS:
        inner = _type_of(die)
        return inner._replace(name=name or inner.name)
    if tag in _POINTERS:
        to = _pointee(die)
        return Type("pointer", size or 8, f"{to.name} *", to=to)
    if tag == "DW_TAG_enumeration_type":
        return Type("int", size, f"enum {name}")
    word = tag.removeprefix("DW_TAG_").removesuffix("_type").replace("structure", "struct")
    return Type("other", size, f"{word} {name}".rstrip())


def _pointee(die: Any) -> Type:
    """Return what a pointer points to; a pointer to a pointer is not followed."""
    const, name = False, ""
    while "DW_AT_type" in die.attributes:
        die = die.get_DIE_from_attribute("DW_AT_type")
        if die.tag == "DW_TAG_const_type":
            const = True
        elif die.tag in _QUALIFIERS:
            own = die.attributes.get("DW_AT_name")
            name = name or (own.value.decode() if own else "")
        elif die.tag in _POINTERS:
            return Type("other", 8, "pointer", const)
        else:
            inner = _type(die)
            return inner._replace(const=const, name=name or inner.name)
    return _VOID._replace(const=const)


def _file_names(dwarf: Any, unit: Any) -> dict[int, str]:
    program = dwarf.line_program_for_CU(unit)
    if program is None:
        return {}
    first = 0 if program.header["version"] >= 5 else 1
    entries = program.header["file_entry"]
    return {index + first: entry.name.decode() for index, entry in enumerate(entries)}


def _declared(kind: Type) -> str:
    if kind.kind == "pointer" and kind.to:
        return f"{'const ' if kind.to.const else ''}{kind.to.name} *"
    return f"{kind.name} "
