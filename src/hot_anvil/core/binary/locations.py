"""Where variables are at each instruction, as expressions that a state of the processor answers.

Sources: the DWARF 5 standard, sections 2.5 (expressions), 2.6 (locations), 6.4 (call frames).
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.arch import architecture
from hot_anvil.core.binary.call_types import type_of
from hot_anvil.core.binary.dwarf import open_dwarf
from hot_anvil.core.binary.frames import frame_rules, functions_in
from hot_anvil.core.binary.lines import Ranges
from hot_anvil.core.binary.types import Type
from hot_anvil.core.binary.variable_types import lookup, text_of

_PREFIXES = ("DW_OP_", "GNU_")


class Op(NamedTuple):
    """One operation of an expression."""

    name: str  # of the standard, without its prefix
    numbers: tuple[int, ...] = ()
    register: str = ""  # of "reg" and "breg", which stand for all of these
    inner: "tuple[Op, ...]" = ()  # of an entry_value


class Span(NamedTuple):
    """An expression that holds over a stretch of a function."""

    low: int  # bytes from the function's start
    high: int
    ops: tuple[Op, ...]


class FrameRule(NamedTuple):
    """How the start of the frame is found from a place on."""

    low: int  # bytes from the function's start
    register: str
    offset: int


class Local(NamedTuple):
    """A parameter or a local variable of a function, or of one inlined into it."""

    name: str
    type: Type
    parameter: bool
    inlined: str  # the inlined function that it belongs to, "" for the function's own
    line: int  # where it is declared, 0 where that is not known
    spans: tuple[Span, ...]


class FunctionLocals(NamedTuple):
    """The variables of one function."""

    symbol: str
    size: int  # bytes of code
    frame_base: tuple[Op, ...]
    rules: tuple[FrameRule, ...]
    variables: tuple[Local, ...]


def read_locals(data: bytes, isa: str) -> tuple[FunctionLocals, ...]:
    """Return the variables of all functions of a linked image with full debug info.

    Variables with a place of their own in memory are left out: core/binary/variables.py has them.
    """
    elf, dwarf = open_dwarf(data)
    if dwarf is None:
        return ()
    rules = frame_rules(dwarf)
    out = []
    for unit in dwarf.iter_CUs():
        reader = _Reader(dwarf, unit, isa, elf.elfclass, rules)
        found = (reader.function(die) for die in functions_in(unit.get_top_DIE()))
        out += [one for one in found if one]
    return tuple(out)


class _Reader:
    """Reads the variables of the functions of one compile unit."""

    def __init__(
        self, dwarf: Any, unit: Any, isa: str, bits: int,
        rules: Sequence[tuple[int, int, Sequence[Mapping[str, Any]]]],
    ) -> None:  # fmt: skip
        from elftools.dwarf.dwarf_expr import DWARFExprParser
        from elftools.dwarf.locationlists import LocationParser

        self.unit, self.bits, self.rules = unit, bits, rules
        self.abi = architecture(isa).abi
        self.ranges = Ranges(dwarf, unit)
        self.expressions = DWARFExprParser(unit.structs)
        self.locations = LocationParser(dwarf.location_lists())
        self.base = lookup(unit.get_top_DIE(), "DW_AT_low_pc") or 0
        self.low = self.high = 0

    def function(self, die: Any) -> FunctionLocals | None:
        spans = list(self.ranges.of(die))
        if not spans:
            return None
        self.low, self.high = spans[0]
        name = text_of(lookup(die, "DW_AT_name")) or "?"
        symbol = text_of(lookup(die, "DW_AT_linkage_name")) or name
        base = die.attributes.get("DW_AT_frame_base")
        ops = self._ops(base.value) if base and isinstance(base.value, list) else ()
        whole = [(self.low, self.high)]
        variables = tuple(self._variables(die, "", whole))
        return FunctionLocals(symbol, self.high - self.low, ops, self._frame(), variables)

    def _frame(self) -> tuple[FrameRule, ...]:
        rows = next((rows for low, high, rows in self.rules if low <= self.low < high), [])
        out = []
        for row in rows:
            rule = row["cfa"]
            if getattr(rule, "reg", None) is not None:
                name = self.abi.register_name(rule.reg, self.bits)
                out.append(FrameRule(row["pc"] - self.low, name, rule.offset))
        return tuple(out)

    def _variables(
        self, scope: Any, inlined: str, within: Sequence[tuple[int, int]]
    ) -> Iterator[Local]:
        for die in scope.iter_children():
            if die.tag in ("DW_TAG_formal_parameter", "DW_TAG_variable"):
                if "DW_AT_declaration" not in die.attributes and (
                    found := self._variable(die, inlined, within)
                ):
                    yield found
            elif die.tag in ("DW_TAG_lexical_block", "DW_TAG_inlined_subroutine"):
                own = list(self.ranges.of(die)) or within
                name = inlined
                if die.tag == "DW_TAG_inlined_subroutine":
                    name = text_of(lookup(die, "DW_AT_name")) or "?"
                yield from self._variables(die, name, own)

    def _variable(self, die: Any, inlined: str, within: Sequence[tuple[int, int]]) -> Local | None:
        name = text_of(lookup(die, "DW_AT_name"))
        attribute = die.attributes.get("DW_AT_location")
        spans = tuple(self._spans(die, attribute, within))
        if not name or not spans or any(op.name == "addr" for s in spans for op in s.ops):
            return None
        parameter = die.tag == "DW_TAG_formal_parameter"
        line = lookup(die, "DW_AT_decl_line") or 0
        return Local(name, type_of(die), parameter, inlined, line, spans)

    def _spans(self, die: Any, attribute: Any, within: Sequence[tuple[int, int]]) -> Iterator[Span]:
        constant = lookup(die, "DW_AT_const_value")
        if attribute is None:
            if isinstance(constant, int):
                value = (Op("consts", (constant,)), Op("stack_value"))
                yield from self._clipped(within, self.low, self.high, value)
            return
        found = self.locations.parse_from_attribute(attribute, self.unit["version"], die)
        if not isinstance(found, list):
            ops = self._ops(found.loc_expr)
            yield from self._clipped(within, self.low, self.high, ops)
            return
        base = self.base
        for entry in found:
            if not hasattr(entry, "loc_expr"):
                base = entry.base_address
                continue
            start = 0 if entry.is_absolute else base
            low, high = entry.begin_offset + start, entry.end_offset + start
            yield from self._clipped([(self.low, self.high)], low, high, self._ops(entry.loc_expr))

    def _clipped(
        self, within: Sequence[tuple[int, int]], low: int, high: int, ops: tuple[Op, ...]
    ) -> Iterator[Span]:
        for first, end in within:
            first, end = max(first, low, self.low), min(end, high, self.high)
            if first < end and ops:
                yield Span(first - self.low, end - self.low, ops)

    def _ops(self, data: Sequence[int]) -> tuple[Op, ...]:
        return tuple(map(self._op, self.expressions.parse_expr(list(data))))

    def _op(self, op: Any) -> Op:
        name: str = op.op_name
        for prefix in _PREFIXES:
            name = name.removeprefix(prefix)
        if name == "entry_value":
            return Op(name, inner=tuple(map(self._op, op.args[0])))
        numbers = [a for a in op.args if isinstance(a, int)]
        if name == "implicit_value":
            numbers = list(op.args[0])
        for kind in ("breg", "reg"):
            if name == f"{kind}x":
                register = self.abi.register_name(numbers[0], self.bits)
                return Op(kind, tuple(numbers[1:]), register)
            if name.startswith(kind) and name[len(kind) :].isdigit():
                register = self.abi.register_name(int(name[len(kind) :]), self.bits)
                return Op(kind, tuple(numbers), register)
        if name.startswith("lit"):
            return Op("constu", (int(name[3:]),))
        return Op(name, tuple(numbers))
