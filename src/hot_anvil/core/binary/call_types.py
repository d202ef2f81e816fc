"""Types of parameters and results from DWARF entries, as records for calling."""

from typing import Any

from hot_anvil.core.binary.types import VOID, Member, Type
from hot_anvil.core.binary.variable_types import lookup, referred, text_of

# DW_ATE_* encodings of the DWARF standard, section 7.8, as kinds of ours.
_ENCODINGS = {2: "bool", 3: "complex", 4: "float", 5: "int", 6: "int", 7: "uint", 8: "uint",
              16: "uint"}  # fmt: skip
_DEREF = 0x06  # DW_OP_deref: the value is where the location points to
_FORTRAN = (0x07, 0x08, 0x0E, 0x22, 0x23)  # DW_LANG_Fortran77 to Fortran08
_BY_REFERENCE = 0x04  # DW_CC_pass_by_reference: C++ objects that cannot be copied as bytes
_QUALIFIERS = (
    "DW_TAG_typedef",
    "DW_TAG_volatile_type",
    "DW_TAG_restrict_type",
    "DW_TAG_atomic_type",
)
_POINTERS = ("DW_TAG_pointer_type", "DW_TAG_reference_type", "DW_TAG_rvalue_reference_type")
_STRUCTS = ("DW_TAG_structure_type", "DW_TAG_class_type")
_DEEPEST = 8  # structs inside structs


def passed_type(parameter: Any) -> Type:
    """Return the type of what is passed; Fortran passes arrays, and most scalars, by reference."""
    die = referred(parameter, "DW_AT_type")
    if die is None:
        return type_of(parameter)
    if die.tag == "DW_TAG_array_type":
        element = type_of(die)
        return Type("pointer", 8, f"{element.name} *", to=element, align=8)
    place = parameter.attributes.get("DW_AT_location")
    by_reference = (
        place is not None
        and isinstance(place.value, list)
        and place.value[-1:] == [_DEREF]
        and parameter.cu.get_top_DIE().attributes["DW_AT_language"].value in _FORTRAN
    )
    passed = _type(die, 0)
    return Type("pointer", 8, f"{passed.name} *", to=passed, align=8) if by_reference else passed


def type_of(die: Any, depth: int = 0) -> Type:
    """Return the type that an entry refers to, nothing for one without."""
    inner = referred(die, "DW_AT_type")
    return VOID if inner is None else _type(inner, depth)


def _type(die: Any, depth: int) -> Type:
    tag, attributes = die.tag, die.attributes
    size = attributes["DW_AT_byte_size"].value if "DW_AT_byte_size" in attributes else 0
    name = text_of(attributes["DW_AT_name"].value) if "DW_AT_name" in attributes else ""
    if tag == "DW_TAG_base_type":
        kind = _ENCODINGS.get(attributes["DW_AT_encoding"].value, "other")
        return Type(kind, size, name, align=size // 2 if kind == "complex" else max(size, 1))
    if tag == "DW_TAG_const_type":
        return type_of(die, depth)._replace(const=True)
    if tag in _QUALIFIERS:
        inner = type_of(die, depth)
        align = attributes.get("DW_AT_alignment")
        return inner._replace(
            name=name or inner.name,
            align=align.value if align else inner.align,
            restrict=inner.restrict or tag == "DW_TAG_restrict_type",
        )
    if tag in _POINTERS:
        to = _pointee(die, depth)
        return Type("pointer", size or 8, f"{to.name} *", to=to, align=8)
    if tag == "DW_TAG_enumeration_type":
        return Type("int", size, f"enum {name}", align=max(size, 1))
    if tag in _STRUCTS and depth < _DEEPEST:
        return _struct(die, size, name, depth)
    if tag == "DW_TAG_array_type":
        return _array(die, depth)
    word = tag.removeprefix("DW_TAG_").removesuffix("_type").replace("structure", "struct")
    return Type("other", size, f"{word} {name}".rstrip())


def _struct(die: Any, size: int, name: str, depth: int) -> Type:
    word = "struct" if die.tag == "DW_TAG_structure_type" else "class"
    nothing = Type("other", size, f"{word} {name}".rstrip())
    called = die.attributes.get("DW_AT_calling_convention")
    if called and called.value == _BY_REFERENCE:
        return nothing
    members: list[Member] = []
    for child in die.iter_children():
        if child.tag == "DW_TAG_inheritance":
            return nothing
        if child.tag != "DW_TAG_member" or "DW_AT_external" in child.attributes:
            continue
        offset = lookup(child, "DW_AT_data_member_location")
        if "DW_AT_bit_size" in child.attributes or not isinstance(offset or 0, int):
            return nothing
        label = text_of(lookup(child, "DW_AT_name"))
        members.append(
            Member(label or f"part{len(members)}", offset or 0, type_of(child, depth + 1))
        )
    align = die.attributes.get("DW_AT_alignment")
    made = Type("struct", size, f"{word} {name}".rstrip(), members=tuple(members))
    # Debug info does not tell packed structs; their members lie closer than they would.
    natural = max((m.type.align for m in members), default=1)
    natural = natural if made._replace(align=natural).lies_naturally else 1
    return made._replace(align=align.value if align else natural)


def _array(die: Any, depth: int) -> Type:
    element = type_of(die, depth)
    total = element.size
    for child in die.iter_children():
        if child.tag == "DW_TAG_subrange_type":
            upper, count = lookup(child, "DW_AT_upper_bound"), lookup(child, "DW_AT_count")
            known = count if isinstance(count, int) else upper + 1 if isinstance(upper, int) else 0
            total *= known
    return Type("array", total, f"{element.name}[]", to=element, align=element.align)


def _pointee(die: Any, depth: int) -> Type:
    """Return what a pointer points to; a pointer to a pointer is not followed."""
    const, name = False, ""
    while "DW_AT_type" in die.attributes:
        die = die.get_DIE_from_attribute("DW_AT_type")
        if die.tag == "DW_TAG_const_type":
            const = True
        elif die.tag in _QUALIFIERS:
            own = die.attributes.get("DW_AT_name")
            name = name or (text_of(own.value) if own else "")
        elif die.tag in _POINTERS:
            return Type("other", 8, "pointer", const)
        elif depth:  # inside a struct: not needed, and it may lead back
            return Type("other", 8, name or "something", const)
        else:
            inner = _type(die, depth + 1)
            return inner._replace(const=const, name=name or inner.name)
    return VOID._replace(const=const)
