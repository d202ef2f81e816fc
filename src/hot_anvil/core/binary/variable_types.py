"""Types of variables in words, sizes and members, from DWARF entries."""

from collections.abc import Iterator
from typing import Any, NamedTuple

_QUALIFIERS = {
    "DW_TAG_const_type": "const ", "DW_TAG_volatile_type": "volatile ",
    "DW_TAG_restrict_type": "", "DW_TAG_atomic_type": "",
}  # fmt: skip
_POINTERS = ("DW_TAG_pointer_type", "DW_TAG_reference_type", "DW_TAG_rvalue_reference_type")
AGGREGATES = ("DW_TAG_structure_type", "DW_TAG_union_type", "DW_TAG_class_type")
_MEMBERS = 64  # of an aggregate told at most


class Member(NamedTuple):
    """A part of an aggregate."""

    name: str
    type: str
    offset: int
    size: int


def lookup(die: Any, name: str) -> Any:
    """Return an attribute's value, looked up through the entries a DIE completes."""
    holder = _holder(die, name)
    return None if holder is None else holder.attributes[name].value


def referred(die: Any, name: str) -> Any:
    """Return the entry that an attribute refers to, None without the attribute."""
    holder = _holder(die, name)
    return None if holder is None else holder.get_DIE_from_attribute(name)


def _holder(die: Any, name: str) -> Any:
    """Return the entry that has an attribute: this one, or one that it completes."""
    for _ in range(4):
        if name in die.attributes:
            return die
        links = ("DW_AT_abstract_origin", "DW_AT_specification")
        link = next((k for k in links if k in die.attributes), "")
        if not link:
            return None
        die = die.get_DIE_from_attribute(link)
    return None


def text_of(value: Any) -> str:
    """Return a text of debug info, "" for what is none."""
    return value.decode(errors="replace") if isinstance(value, bytes) else ""


def constant_text(value: Any) -> str:
    """Return a constant as it is read."""
    if isinstance(value, list | bytes):
        return f"the bits {int.from_bytes(bytes(value), 'little'):#x}"
    return str(value)


def type_name(die: Any) -> str:
    """Return a type as the source writes it."""
    if die is None:
        return "void"
    own = text_of(lookup(die, "DW_AT_name"))
    inner = referred(die, "DW_AT_type")
    if die.tag in _QUALIFIERS:
        return f"{_QUALIFIERS[die.tag]}{type_name(inner)}"
    if die.tag in _POINTERS:
        sign = {"DW_TAG_pointer_type": "*", "DW_TAG_reference_type": "&"}.get(die.tag, "&&")
        return own or f"{type_name(inner)} {sign}"
    if die.tag == "DW_TAG_array_type":
        counts = "".join(f"[{count}]" for count in _counts(die))
        return f"{type_name(inner)}{counts}"
    if die.tag == "DW_TAG_subroutine_type":
        return "function"
    word = {"DW_TAG_structure_type": "struct ", "DW_TAG_union_type": "union ",
            "DW_TAG_enumeration_type": "enum "}.get(die.tag, "")  # fmt: skip
    return f"{word}{own}" if own else f"{word}(unnamed)"


def _counts(die: Any) -> list[int | str]:
    out: list[int | str] = []
    for child in die.iter_children():
        if child.tag != "DW_TAG_subrange_type":
            continue
        count = lookup(child, "DW_AT_count")
        upper = lookup(child, "DW_AT_upper_bound")
        known = count if isinstance(count, int) else upper + 1 if isinstance(upper, int) else "n"
        out.append(known)
    return out


def type_size(die: Any) -> int:
    """Return the bytes of a type, 0 when not known."""
    if die is None:
        return 0
    size = lookup(die, "DW_AT_byte_size")
    if isinstance(size, int):
        return size
    if die.tag in _POINTERS:
        return int(die.cu["address_size"])
    inner = type_size(referred(die, "DW_AT_type"))
    if die.tag == "DW_TAG_array_type":
        for count in _counts(die):
            inner = inner * count if isinstance(count, int) else 0
    return inner


def members_of(die: Any) -> Iterator[Member]:
    """Give the parts of an aggregate, nothing for other types."""
    while die is not None and die.tag in (*_QUALIFIERS, "DW_TAG_typedef"):
        die = referred(die, "DW_AT_type")
    if die is None or die.tag not in AGGREGATES:
        return
    children = [c for c in die.iter_children() if c.tag == "DW_TAG_member"][:_MEMBERS]
    for child in children:
        offset = lookup(child, "DW_AT_data_member_location")
        if "DW_AT_external" in child.attributes:
            continue  # static members live elsewhere
        inner = referred(child, "DW_AT_type")
        place = offset if isinstance(offset, int) else 0
        yield Member(
            text_of(lookup(child, "DW_AT_name")) or "(unnamed)", type_name(inner), place,
            type_size(inner),
        )  # fmt: skip
