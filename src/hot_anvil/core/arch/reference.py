"""What instructions do, in words: looked up by mnemonic, and read with their operands.

The texts are ``words.toml`` in the folder of each instruction set; a row may stand for a family
of mnemonics, its pattern naming what differs.
"""

import re
from collections.abc import Iterator, Mapping
from functools import cache, lru_cache
from typing import Any, NamedTuple

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch.wording import tidy
from hot_anvil.core.code.text import split_operands

_STRICT = ("cc", "zero", "order")  # parts of a pattern that must be among the known words
_FIELD = re.compile(r"\{(\w+)\}")
_SPLIT = re.compile(r" \|(?= |$)")
_WITH_S = "none, but with s at the end: "
_COUNTED = re.compile(r"(.*)/(\d)")
_HEAD = re.compile(r"(?:\w(?![?*{]))+")  # letters of a pattern that must be there

_compiled = cache(re.compile)


class Pattern(NamedTuple):
    """What the mnemonics of a row look like; compiled only where one begins like it."""

    text: str
    head: str  # what each begins with
    operands: int | None  # how many they have, None: any

    def match(self, mnemonic: str) -> re.Match[str] | None:
        """Return the match of a whole mnemonic."""
        return _compiled(self.text).fullmatch(mnemonic) if mnemonic.startswith(self.head) else None


class Entry(NamedTuple):
    """One row of the tables."""

    patterns: tuple[Pattern, ...]
    reading: str
    does: str
    flags: str
    example: tuple[str, ...]  # operands
    family: str
    sign: str


class Found(NamedTuple):
    """What the tables say of one mnemonic."""

    mnemonic: str  # without prefixes and suffixes
    prefixes: tuple[str, ...]
    suffix: str  # size letter or condition that is no part of the row's pattern
    entry: Entry
    groups: Mapping[str, str]  # parts of the mnemonic, in words

    @property
    def does(self) -> str:
        """What it does, in a sentence."""
        return _filled(self.entry.does, self.groups).strip()

    @property
    def flags(self) -> str:
        """Which flags it writes and reads."""
        flags = self.entry.flags
        if _WITH_S in flags and self.mnemonic.endswith("s") and self.groups.get("f"):
            return flags.replace(_WITH_S, "writes ")
        return flags


class Reference(NamedTuple):
    """The texts of one instruction set."""

    isa: str
    name: str
    direction: str
    flags: str  # said of all instructions, where a family does not say it
    suffixes: str  # letters that may follow any mnemonic
    conditions: str  # conditions that may follow any mnemonic, as a pattern
    typed: bool  # what follows the first dot of a mnemonic are types
    words: Mapping[str, Mapping[str, str]]
    prefixes: Mapping[str, str]
    entries: tuple[Entry, ...]


def read_reference(isa: str, tables: Mapping[str, Any]) -> Reference:
    """Return the reference that the tables of one file hold."""
    entries = tuple(entry for family in tables["family"] for entry in _entries(family, tables))
    return Reference(
        isa, tables["name"], tables["direction"], tables.get("flags", ""), tables["suffixes"],
        tables.get("conditions", ""), tables.get("typed", False), tables["words"],
        tables.get("prefixes", {}), entries,
    )  # fmt: skip


def _entries(family: Mapping[str, Any], tables: Mapping[str, Any]) -> Iterator[Entry]:
    for line in family["rows"].strip().split("\n"):
        parts = [part.strip() for part in _SPLIT.split(line.replace(" ||", " | |"))]
        _, reading, does, *more = (part.replace("\\|", "|") for part in parts)
        flags = more[0] if more and more[0] else family.get("flags", tables.get("flags", ""))
        example = more[1] if len(more) > 1 else family.get("example", "")
        yield Entry(
            tuple(map(_pattern, _alternatives(parts[0]))), reading, does, flags,
            split_operands(example), family["name"], family.get("sign", ""),
        )  # fmt: skip


def _alternatives(pattern: str) -> list[str]:
    """Split a pattern at the bars that are in no parentheses or brackets."""
    out, depth = [""], 0
    for sign in pattern:
        depth += (sign in "([") - (sign in ")]")
        if sign == "|" and not depth:
            out.append("")
        else:
            out[-1] += sign
    return out


def _pattern(text: str) -> Pattern:
    counted = _COUNTED.fullmatch(text)
    plain = counted[1] if counted else text
    head = _HEAD.match(plain)
    return Pattern(plain, head[0] if head else "", int(counted[2]) if counted else None)


class Dictionary:
    """Looks instructions up in a reference, each spelling once."""

    def __init__(self, reference: Reference) -> None:
        self.reference = reference
        self.arch = architecture(reference.isa)
        self._say = lru_cache(maxsize=1 << 14)(self.arch.wording.operand)
        self.find = lru_cache(maxsize=1 << 14)(self._find)
        self.read = lru_cache(maxsize=1 << 16)(self._read)

    def _find(self, mnemonic: str, operands: int | None = None) -> Found | None:
        """Return what is said of a mnemonic with so many operands (None: any); None if nothing."""
        return next((found for found, _ in self._matches(mnemonic, operands)), None)

    def forms(self, mnemonic: str) -> list[Found]:
        """Return what is said of a mnemonic for each number of operands that it may have."""
        out: dict[int | None, Found] = {}
        for found, count in self._matches(mnemonic, None):
            if not out or (None not in out and count is not None):
                out.setdefault(count, found)
        first = next(iter(out.values()), None)
        return [one for one in out.values() if first and one.suffix == first.suffix]

    def _matches(self, mnemonic: str, operands: int | None) -> Iterator[tuple[Found, int | None]]:
        *prefixes, name = mnemonic.split() or [""]
        for spelling, suffix in self._spellings(name):
            for entry in self.reference.entries:
                for pattern in entry.patterns:
                    count = pattern.operands
                    if count is not None and operands is not None and count != operands:
                        continue
                    found = pattern.match(spelling)
                    if found and self._known(found):
                        groups = self._in_words(found)
                        yield Found(spelling, tuple(prefixes), suffix, entry, groups), count

    def _spellings(self, name: str) -> Iterator[tuple[str, str]]:
        """Give the forms to look a mnemonic up by, each with what was taken off."""
        reference = self.reference
        if reference.typed:
            yield name.partition(".")[0], name.partition(".")[2]
            return
        yield name, ""
        if name[-1:] in reference.suffixes:
            yield name[:-1], name[-1:]
        if not reference.conditions:
            return
        plain = re.sub(r"\.[nw]$", "", name)
        if plain != name:
            yield plain, ""
        found = re.fullmatch(rf"(\w+?)({reference.conditions})((?:\.\w+)*)", plain)
        if found:
            yield found[1] + found[3], found[2]
        shifted = re.fullmatch(rf"(\w+?)({reference.conditions})(s)", plain)
        if shifted:
            yield shifted[1] + "s", shifted[2]

    def _known(self, found: re.Match[str]) -> bool:
        words = self.reference.words
        return all(
            value in words[name]
            for name, value in found.groupdict().items()
            if name in _STRICT and value is not None
        )

    def _in_words(self, found: re.Match[str]) -> dict[str, str]:
        words = self.reference.words
        return {
            name: words.get(name, {}).get(value, value)
            for name, value in found.groupdict().items()
            if value is not None
        }

    def _read(self, mnemonic: str, operands: tuple[str, ...]) -> str:
        """Return a plain reading of an instruction, "" where it is not known."""
        found = self.find(mnemonic, len(operands))
        if found is None:
            return ""
        moved = self.arch.wording.moved(operands)
        fields = dict(found.groups) | self._fields(moved.operands)
        if self.reference.typed:
            kind = found.suffix.partition(".")[0]
            fields["cmp"] = self.reference.words.get("cmp", {}).get(kind, kind)
        text = self.arch.wording.idiom(found.mnemonic, found.suffix, moved.operands)
        text = text or tidy(_filled(found.entry.reading, fields))
        text = f"{moved.before}{text}{moved.after}"
        condition = self.reference.words.get("cc", {}).get(found.suffix, "")
        if self.reference.conditions and condition:
            text = f"if {condition}: {text}"
        for prefix in found.prefixes:
            if prefix.startswith("@"):
                text = f"if {prefix[1:].replace('!', 'not ')}: {text}"
            elif prefix.startswith("rep"):
                text = f"{text}, {self.reference.prefixes[prefix]}"
            elif prefix == "lock":
                text = f"{text}, atomically"
        return text

    def _fields(self, operands: tuple[str, ...]) -> dict[str, str]:
        """Return what stands for the fields of a reading."""
        said = [self._say(operand) for operand in operands]
        fields = {str(k): text for k, text in enumerate(said, 1)}
        conditions = self.reference.words.get("cc", {})
        fields |= {f"{k}c": conditions.get(text, text) for k, text in enumerate(operands, 1)}
        if not said:
            return fields
        last = self.arch.syntax.destination_last
        fields["d"] = said[-1] if last else said[0]
        fields["s"] = said[0] if last else said[1] if len(said) > 1 else said[0]
        if last:
            fields["l"] = said[-2] if len(said) > 2 else said[-1]
            fields["r"] = said[-3] if len(said) > 2 else said[0]
        else:
            rest = said[2:] if len(said) > 2 else said[1:] or said
            fields["l"] = said[1] if len(said) > 2 else said[0]
            fields["r"] = rest[0] if len(rest) == 1 else f"({' '.join(rest)})"
        fields["past1"] = said[1] if len(said) == 2 else f"({' '.join(said[1:])})"
        fields["rest"] = ", ".join(said[1:])
        fields["rest2"] = ", ".join(said[2:])
        fields["a1"] = said[0].strip("[]")
        return fields


def _filled(text: str, fields: Mapping[str, str]) -> str:
    return _FIELD.sub(lambda field: fields.get(field[1], ""), text)
