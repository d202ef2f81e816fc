"""Where variables live: stack slots and registers, from DWARF location data.

Sources: the DWARF 5 standard, sections 2.6 (locations), 6.4 (call frames).
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal, NamedTuple

from hot_anvil.core.arch import architecture
from hot_anvil.core.binary.dwarf import open_dwarf
from hot_anvil.core.binary.lines import Ranges
from hot_anvil.core.binary.variable_types import (
    AGGREGATES,
    Member,
    constant_text,
    lookup,
    members_of,
    referred,
    text_of,
    type_name,
    type_size,
)  # fmt: skip

PlaceKind = Literal["stack", "register", "constant", "static", "computed"]
STACK: PlaceKind = "stack"
REGISTER: PlaceKind = "register"
CONSTANT: PlaceKind = "constant"
STATIC: PlaceKind = "static"
COMPUTED: PlaceKind = "computed"
VariableKind = Literal["parameter", "local"]
PARAMETER: VariableKind = "parameter"
LOCAL: VariableKind = "local"


class Whereabouts(NamedTuple):
    """Where a variable is over a stretch of code."""

    low: int  # bytes from the function's start
    high: int
    kind: str
    text: str  # "rax", "rsp+8", "42"
    offset: int | None = None  # of a stack slot, from the frame's start (its CFA) if that is known


class Variable(NamedTuple):
    """One variable of a function, or of one inlined into it."""

    name: str
    kind: str
    type: str
    size: int  # bytes, 0 when not known
    line: int
    inlined: str  # the inlined function that it belongs to, "" for the function's own
    places: tuple[Whereabouts, ...]  # none: optimised away
    members: tuple[Member, ...] = ()


class Saved(NamedTuple):
    """A register that a function saved in its frame."""

    register: str
    offset: int


class Frame(NamedTuple):
    """One function's variables and the layout of its frame."""

    name: str
    symbol: str
    size: int  # bytes of code
    base: str  # how the frame's start is found for most of the code: "rsp+40", "" if not known
    variables: tuple[Variable, ...]
    saved: tuple[Saved, ...]
    word: int = 0  # bytes of a saved register, 0 when not known


def read_frames(data: bytes, isa: str) -> tuple[Frame, ...]:
    """Return the frames of all functions of a linked image with full debug info."""
    elf, dwarf = open_dwarf(data)
    if dwarf is None:
        return ()
    bits = elf.elfclass
    rules = frame_rules(dwarf)
    out = []
    for unit in dwarf.iter_CUs():
        reader = _Reader(dwarf, unit, isa, bits, rules)
        out += [frame for die in functions_in(unit.get_top_DIE()) if (frame := reader.frame(die))]
    return tuple(out)


def functions_in(scope: Any) -> Iterator[Any]:
    for die in scope.iter_children():
        if die.tag == "DW_TAG_subprogram":
            yield die
        elif die.tag in ("DW_TAG_namespace", "DW_TAG_module", *AGGREGATES):
            yield from functions_in(die)


def frame_rules(dwarf: Any) -> list[tuple[int, int, list[Mapping[str, Any]]]]:
    """Return (low, high, rows) of every function with call frame information."""
    out = []
    entries = []
    if dwarf.has_CFI():
        entries += dwarf.CFI_entries()
    if dwarf.has_EH_CFI():
        entries += dwarf.EH_CFI_entries()
    for entry in entries:
        if type(entry).__name__ == "FDE":
            low = entry.header["initial_location"]
            rows = entry.get_decoded().table
            out.append((low, low + entry.header["address_range"], rows))
    return out


class _Reader:
    """Reads the variables of the functions of one compile unit."""

    def __init__(
        self, dwarf: Any, unit: Any, isa: str, bits: int,
        rules: Sequence[tuple[int, int, Sequence[Mapping[str, Any]]]],
    ) -> None:  # fmt: skip
        from elftools.dwarf.dwarf_expr import DWARFExprParser
        from elftools.dwarf.locationlists import LocationParser

        self.dwarf, self.unit, self.bits, self.rules = dwarf, unit, bits, rules
        self.abi = architecture(isa).abi
        self.expressions = DWARFExprParser(unit.structs)
        self.locations = LocationParser(dwarf.location_lists())
        self.frame_base: list[Any] = []
        self.low = self.high = 0

    def frame(self, die: Any) -> Frame | None:
        spans = list(Ranges(self.dwarf, self.unit).of(die))
        if not spans:
            return None
        self.low, self.high = spans[0]
        base = die.attributes.get("DW_AT_frame_base")
        plain = base is not None and isinstance(base.value, list)
        self.frame_base = self.expressions.parse_expr(base.value) if base and plain else []
        rows = next((rows for low, high, rows in self.rules if low <= self.low < high), [])
        name = text_of(lookup(die, "DW_AT_name")) or "?"
        linkage = text_of(lookup(die, "DW_AT_linkage_name")) or name
        variables = tuple(self._variables(die, ""))
        return Frame(
            name, linkage, self.high - self.low, self._base_text(rows), variables,
            tuple(self._saved(rows)), self.abi.word or self.bits // 8,
        )  # fmt: skip

    def _variables(self, scope: Any, inlined: str) -> Iterator[Variable]:
        for die in scope.iter_children():
            if die.tag in ("DW_TAG_formal_parameter", "DW_TAG_variable"):
                if "DW_AT_declaration" not in die.attributes:
                    yield self._variable(die, inlined)
            elif die.tag == "DW_TAG_lexical_block":
                yield from self._variables(die, inlined)
            elif die.tag == "DW_TAG_inlined_subroutine":
                yield from self._variables(die, text_of(lookup(die, "DW_AT_name")) or "?")

    def _variable(self, die: Any, inlined: str) -> Variable:
        kind = PARAMETER if die.tag == "DW_TAG_formal_parameter" else LOCAL
        type_die = referred(die, "DW_AT_type")
        name = text_of(lookup(die, "DW_AT_name")) or "(unnamed)"
        return Variable(
            name, kind, type_name(type_die), type_size(type_die),
            lookup(die, "DW_AT_decl_line") or 0, inlined,
            tuple(self._places(die)), tuple(members_of(type_die)),
        )  # fmt: skip

    def _places(self, die: Any) -> Iterator[Whereabouts]:
        whole = (0, self.high - self.low)
        constant = lookup(die, "DW_AT_const_value")
        attribute = die.attributes.get("DW_AT_location")
        if attribute is None:
            if constant is not None:
                yield Whereabouts(*whole, CONSTANT, constant_text(constant))
            return
        version = self.unit["version"]
        found = self.locations.parse_from_attribute(attribute, version, die)
        if not isinstance(found, list):
            yield self._place(*whole, found.loc_expr)
            return
        base = lookup(self.unit.get_top_DIE(), "DW_AT_low_pc") or 0
        for entry in found:
            if not hasattr(entry, "loc_expr"):
                base = entry.base_address
                continue
            start = 0 if entry.is_absolute else base
            low, high = entry.begin_offset + start, entry.end_offset + start
            low, high = max(low, self.low), min(high, self.high)
            if low < high:
                yield self._place(low - self.low, high - self.low, entry.loc_expr)

    def _place(self, low: int, high: int, data: Sequence[int]) -> Whereabouts:
        ops = self.expressions.parse_expr(data)
        kind, text, offset = self._meaning(ops)
        return Whereabouts(low, high, kind, text, offset)

    def _meaning(self, ops: Sequence[Any]) -> tuple[str, str, int | None]:
        """Return kind, words and CFA offset of a location expression."""
        names = [op.op_name.removeprefix("DW_OP_").removeprefix("GNU_") for op in ops]
        if "piece" in names:
            return self._pieces(ops, names)
        if not names:
            return COMPUTED, "optimised away here", None
        first, args = names[0], ops[0].args
        if len(ops) == 1:
            if first == "fbreg":
                return self._stack_slot(args[0])
            if register := self._register_of(first, args):
                return REGISTER, register, None
            if first.startswith("breg"):
                return self._memory_at(self.abi.register_name(int(first[4:]), self.bits), args[0])
            if first == "addr":
                return STATIC, f"memory at {args[0]:#x}", None
            if first == "implicit_value":
                value = int.from_bytes(bytes(args[0]), "little")
                return CONSTANT, f"the bits {value:#x}", None
        if names[-1] == "stack_value" and len(ops) == 2:
            if first.startswith(("lit", "const")):
                value = int(first[3:]) if first.startswith("lit") else args[0]
                return CONSTANT, str(value), None
            if first.startswith("breg"):
                name = self.abi.register_name(int(first[4:]), self.bits)
                return COMPUTED, f"{name}{args[0]:+d}" if args[0] else name, None
            if first == "entry_value":
                return COMPUTED, "its value at entry, no longer kept", None
        return COMPUTED, f"computed ({len(ops)} steps)", None

    def _memory_at(self, register: str, distance: int) -> tuple[str, str, int | None]:
        """Return a place in memory: a stack slot if the register finds the frame."""
        text = f"{register}{distance:+d}" if distance else register
        rule = self._rule(register)
        if rule is None:
            return STATIC, f"memory at {text}", None
        return STACK, text, distance - rule[1]

    def _pieces(self, ops: Sequence[Any], names: Sequence[str]) -> tuple[str, str, int | None]:
        parts: list[str] = []
        kinds = set()
        begin = 0
        first: int | None = None
        for k, name in enumerate(names):
            if name != "piece":
                continue
            kind, text, offset = self._meaning(ops[begin:k])
            kinds.add(kind)
            first = offset if not parts else first
            parts.append(text)
            begin = k + 1
        kind = kinds.pop() if len(kinds) == 1 else COMPUTED
        return kind, ":".join(reversed(parts)), first if kind == STACK else None

    def _register_of(self, name: str, args: Sequence[int]) -> str:
        if name == "regx":
            return self.abi.register_name(args[0], self.bits)
        plain = name.startswith("reg") and name[3:].isdigit()
        return self.abi.register_name(int(name[3:]), self.bits) if plain else ""

    def _stack_slot(self, offset: int) -> tuple[str, str, int | None]:
        name = self.frame_base[0].op_name if self.frame_base else ""
        if name == "DW_OP_call_frame_cfa":
            rule = self._rule()
            text = f"{rule[0]}{rule[1] + offset:+d}" if rule else f"frame{offset:+d}"
            return STACK, text.removesuffix("+0"), offset
        register, extra = "", 0
        if name.startswith("DW_OP_reg"):
            register = self.abi.register_name(int(name[9:]), self.bits)
        elif name.startswith("DW_OP_breg"):
            register = self.abi.register_name(int(name[10:]), self.bits)
            extra = self.frame_base[0].args[0]
        rule = self._rule(register)
        start = offset + extra - rule[1] if rule and rule[0] == register else None
        return STACK, f"{register or 'frame'}{offset + extra:+d}".removesuffix("+0"), start

    def _rule(self, register: str = "") -> tuple[str, int] | None:
        """Return the register and distance that the frame's start is found by in most code."""
        rows = next((rows for a, z, rows in self.rules if a <= self.low < z), [])
        spans = self._spans(rows)
        if register:
            spans = {key: size for key, size in spans.items() if key[0] == register}
        return max(spans, key=lambda key: spans[key]) if spans else None

    def _spans(self, rows: Sequence[Mapping[str, Any]]) -> dict[tuple[str, int], int]:
        """Return for each way to find the frame's start how many bytes of code it holds for."""
        spans: dict[tuple[str, int], int] = {}
        ends = [row["pc"] for row in rows[1:]] + [self.high] * bool(rows)
        for row, end in zip(rows, ends, strict=True):
            rule = row["cfa"]
            if getattr(rule, "reg", None) is not None:
                key = self.abi.register_name(rule.reg, self.bits), rule.offset
                spans[key] = spans.get(key, 0) + max(end - row["pc"], 0)
        return spans

    def _base_text(self, rows: Sequence[Mapping[str, Any]]) -> str:
        spans = self._spans(rows)
        if not spans:
            return ""
        register, offset = max(spans, key=lambda key: spans[key])
        return f"{register}{offset:+d}"

    def _saved(self, rows: Sequence[Mapping[str, Any]]) -> Iterator[Saved]:
        known: dict[int, int] = {}
        for row in rows:
            for key, rule in row.items():
                number: Any = key  # "pc", "cfa", or the number of a register
                if isinstance(number, int) and getattr(rule, "type", "") == "OFFSET":
                    known.setdefault(number, rule.arg)
        for register, offset in sorted(known.items(), key=lambda item: -item[1]):
            yield Saved(self.abi.register_name(register, self.bits), offset)
