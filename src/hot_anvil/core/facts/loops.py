"""Facts of one loop."""

from collections import Counter
from collections.abc import Mapping, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.spelling import split_names
from hot_anvil.core.code.records import Instruction, Site
from hot_anvil.core.facts.cycles import cycles_of_pass
from hot_anvil.core.facts.functions import short_title
from hot_anvil.core.facts.records import MAIN, REST, Fact, LoopFacts
from hot_anvil.core.facts.timing import only_time
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.passes import Pass, pass_of, test_of
from hot_anvil.core.model.streams import Stream, counter_steps, streams
from hot_anvil.core.model.vectors import is_vector_loop, shape_of

_MOST = 64  # copies that unrolling is taken for at most


def loop_facts(
    side: FunctionModel, titles: Mapping[str, str], returns_nothing: bool
) -> tuple[LoopFacts, ...]:
    """Return the facts of every loop of a function, outer ones first."""
    loops = side.loops
    ranges = [lines_of(side, number) for number in range(len(loops))]
    kinds = [is_vector_loop(side, number) for number in range(len(loops))]
    mains = _mains(side, ranges, kinds)
    out = []
    for number, loop in enumerate(loops):
        file, first, last = ranges[number]
        main = mains[number]
        facts = _facts(side, number, kinds[number], titles, returns_nothing)
        rest = [other for other, its in enumerate(mains) if its == number and other != number]
        if rest:
            words = ", ".join("vector" if kinds[other] else "scalar" for other in rest)
            starts = tuple(side.body.leaders[loops[other].header] for other in rest)
            facts.append(Fact("rest", len(rest), starts, f"{len(rest)} ({words})"))
        out.append(
            LoopFacts(
                number + 1, loop.depth, _around(side, number), file, first, last,
                side.body.leaders[loop.header], MAIN if main == number else REST, tuple(facts),
            )
        )  # fmt: skip
    return tuple(out)


def shape_facts(side: FunctionModel, number: int) -> tuple[Fact, Fact, Fact]:
    """Return the facts "vector", "unrolled" and "bytes per pass" of one loop."""
    one = pass_of(side.body, number)
    found = streams(side, one.places)
    vector = is_vector_loop(side, number)
    return (
        _vector(side, number, vector, found),
        _unrolled(side, one, found, vector),
        _advance(found),
    )


def lines_of(side: FunctionModel, number: int) -> tuple[str, int, int]:
    """Return (file, first, last line) of a loop's own code.

    Of code inlined into the function, or into the loop, only what stands
    where the loop itself was written counts, as far as that is known; code of
    libraries stands where the bench's own source calls it.
    """
    items = side.body.items
    backs = side.backs(number)
    home = items[backs[0]] if backs else items[side.body.leaders[side.loops[number].header]]
    file, _, chain = _written(home)
    places = [_written(items[k]) for k in side.own(number)]
    lines = [line for at, line, through in places if line > 0 and (at, through) == (file, chain)]
    if not chain and file == side.body.begins[0]:
        lines = [line for line in lines if line >= side.body.begins[1]] or lines
    lines = lines or [0]
    return file, min(lines), max(lines)


def _written(item: Instruction) -> tuple[str, int, tuple[Site, ...]]:
    """Return file and line of the bench's own that an instruction comes from, and the calls on."""
    if not item.file.startswith("/") or not item.chain:
        return item.file, item.line, item.chain
    for k, site in enumerate(item.chain):
        if site.line > 0 and not site.file.startswith("/"):
            return site.file, site.line, item.chain[k + 1 :]
    return item.file, item.line, item.chain


def _mains(
    side: FunctionModel, ranges: Sequence[tuple[str, int, int]], kinds: Sequence[bool]
) -> list[int]:
    """Return for each loop the one that does most of the same source loop."""
    out = list(range(len(ranges)))
    order = sorted(out, key=lambda n: (not kinds[n], -_weight(side, n)))
    for place, number in enumerate(order):
        for other in order[:place]:
            if out[other] == other and _same_source(side, number, other, ranges):
                out[number] = other
                break
    return out


def _weight(side: FunctionModel, number: int) -> int:
    return len(side.own(number))


def _same_source(
    side: FunctionModel, one: int, other: int, ranges: Sequence[tuple[str, int, int]]
) -> bool:
    loops = side.loops
    if loops[one].blocks & loops[other].blocks or loops[one].depth != loops[other].depth:
        return False
    (file, first, last), (there, begin, end) = ranges[one], ranges[other]
    if file != there or not first or not (first <= end and begin <= last):
        return False
    chains = [{_written(side.body.items[k])[2] for k in side.own(n)[-1:]} for n in (one, other)]
    return chains[0] == chains[1]


def _around(side: FunctionModel, number: int) -> int:
    """Return the number, from 1, of the innermost loop around one; 0 for none."""
    blocks = side.loops[number].blocks
    outer = [n for n, loop in enumerate(side.loops) if blocks < loop.blocks]
    return max(outer, key=lambda n: side.loops[n].depth) + 1 if outer else 0


def _facts(
    side: FunctionModel, number: int, vector: bool, titles: Mapping[str, str], returns_nothing: bool
) -> list[Fact]:
    one = pass_of(side.body, number)
    places = one.places
    facts = [Fact("per pass", len(places), places)]
    if one.fewest != one.most:
        text = f"{one.fewest} to {one.most}"
        facts.append(Fact("other paths", text, places))
    facts += cycles_of_pass(side, number, places)
    found = streams(side, places)
    facts.append(_vector(side, number, vector, found))
    facts += [_unrolled(side, one, found, vector), _advance(found)]
    where, branches = test_of(side.body, side.loops[number])
    facts.append(Fact("test", where, branches))
    calls = [k for k in places if side.effects[k].kind == b.CALL]
    named = tuple(
        short_title(titles.get(t, t)) if (t := side.effects[k].target) else "*" for k in calls
    )
    updates = [k for k in places if side.effects[k].loads and side.effects[k].stores]
    updates = [k for k in updates if not side.on_stack(k) and side.effects[k].kind != b.BLOCK]
    rows = {
        "loads": [k for k in side.loads(places) if k not in updates],
        "stores": [k for k in side.stores(places) if k not in updates],
        "updates": updates,
        "stack": [k for k in places if k in side.slots],
        "divisions": side.of((b.DIV, b.FDIV), places),
        "branches": side.of((b.BRANCH, b.JUMP, b.SKIP), places),
    }
    facts.append(Fact("calls", named, tuple(calls)))
    facts += [Fact(name, len(where), tuple(where)) for name, where in rows.items()]
    if only_time(side, number, returns_nothing):
        facts.append(Fact("only time", True, places))
    return facts


def _vector(side: FunctionModel, number: int, vector: bool, found: Sequence[Stream]) -> Fact:
    """Return how many lanes the calculations of a loop have that goes through arrays so.

    A loop that goes on by single elements, and packs some of its work, is scalar.
    """
    if not vector:
        return Fact("vector", 1, (), "scalar")
    own = side.each_pass(number)
    packed = side.packed(own)
    if not packed:
        moves = [k for k in own if side.effects[k].packed]
        what = "copies" if any(side.effects[k].loads for k in moves) else "stores"
        widest = max((side.effects[k].width for k in moves), default=0)
        note = "nothing is calculated: the code does not say how many elements these are"
        size = f"{widest}-bit" if widest else "as many as the machine's registers hold:"
        return Fact("vector", None, tuple(moves), f"{size} {what}", note)
    shape = shape_of(side, own)
    if shape.lanes == b.SCALABLE:
        text = "as many as the machine's registers hold"
        return Fact("vector", None, tuple(packed), text, "the code does not say how many lanes")
    if not shape.bits:
        return Fact(
            "vector", None, tuple(packed), f"{shape.width}-bit registers",
            "whole registers: the code does not say of how many elements",
        )  # fmt: skip
    kind = {"f": "float", "i": "int", "u": "int"}.get(shape.element, "element")
    width = f" ({shape.width}-bit)" if shape.width else ""
    words = f"{shape.lanes} x {kind}{shape.bits}{width}"
    wide = any(side.effects[k].packed for stream in found for k in stream.places)
    if not wide and len(_scalar_work(side, own)) > len(packed):
        note = "most of a pass is scalar: neighbouring operations were packed"
        return Fact("vector", 1, tuple(packed), f"scalar, in part {words}", note)
    return Fact("vector", shape.lanes, tuple(packed), words)


def _scalar_work(side: FunctionModel, own: Sequence[int]) -> list[int]:
    """Return the scalar calculations of a pass, what only counts left out."""
    counting = counter_steps(side, own)
    return [
        k for k in side.of(b.ARITHMETIC, own) if not side.effects[k].packed and k not in counting
    ]


def _unrolled(side: FunctionModel, one: Pass, found: Sequence[Stream], vector: bool) -> Fact:
    """Return how many elements, or vectors, of each array a pass handles, with its evidence."""
    if found:
        best = min(found, key=lambda stream: stream.copies)
        copies = best.copies
        offsets = [at for at, _ in best.accesses]
        shown = ", ".join(map(str, offsets[:8])) + (" ..." if len(offsets) > 8 else "")
        verb = "stores" if best.stores else "loads"
        sizes = " and ".join(map(str, best.sizes))
        unit = "byte" if sizes == "1" else "bytes"
        note = f"{verb} of {sizes} {unit} at {shown}, and {best.step} further in each pass"
        lines = {side.body.items[k].line for k in best.places}
        if copies > 1 and len(lines) > 1:
            note += "; on several source lines: it may be written so"
            return Fact("unrolled", None, best.places, "", note)
        if not vector and any(side.effects[k].packed for k in best.places):
            note += "; whole vectors are moved: the code does not say of how many elements"
            return Fact("unrolled", None, best.places, "", note)
        if vector and not any(side.effects[k].packed for k in best.places):
            note += "; the code does not say how many of these make a vector"
            return Fact("unrolled", None, best.places, "", note)
        text = f"{copies} {'vectors' if vector else 'elements'} a pass" if copies > 1 else "no"
        if copies > 1:
            return Fact("unrolled", copies, best.places, text, note)
    copies, places = _repeated(side, one.places)
    if copies > 1:
        note = f"the counter goes by {copies}, and the work stands there {copies} times"
        return Fact("unrolled", copies, places, f"{copies} passes at once", note)
    if found:
        return Fact("unrolled", 1, best.places, "no", note)
    steps = counter_steps(side, one.places)
    if steps and {abs(by) for by in steps.values()} == {1}:
        return Fact("unrolled", 1, tuple(steps), "no", "all that counts in it goes by 1")
    if any(side.effects[k].loads or side.effects[k].stores for k in one.places):
        return Fact("unrolled", None, (), "", "its accesses do not advance by a constant")
    return Fact("unrolled", 1, (), "no", "no access to count by; no repeated work")


def _repeated(side: FunctionModel, places: Sequence[int]) -> tuple[int, tuple[int, ...]]:
    """Return how often work without memory stands in a pass, going by its counter's step."""
    steps = counter_steps(side, places)
    count = max((abs(by) for by in steps.values()), default=1)
    if not 2 <= count <= _MOST:
        return 1, ()
    closing = (b.COMPARE, b.BRANCH, b.JUMP, b.SKIP)
    work = [k for k in places if k not in steps and side.kinds[k] not in closing]
    shapes = Counter(split_names(side.body.texts[k], side.body.isa)[0] for k in work)
    even = [
        k for k in work if shapes[split_names(side.body.texts[k], side.body.isa)[0]] % count == 0
    ]
    return (count, tuple(even)) if even and 2 * len(even) > len(work) else (1, ())


def _advance(found: Sequence[Stream]) -> Fact:
    if not found:
        return Fact("bytes per pass", None, (), "", "no access that advances by a constant")
    steps = {abs(stream.step) for stream in found}
    loads = sorted({abs(s.step) for s in found if not s.stores})
    stores = sorted({abs(s.step) for s in found if s.stores})
    places = tuple(sorted({k for stream in found for k in stream.places}))
    text = ""
    if len(steps) > 1:
        parts = [f"{' and '.join(map(str, loads))} loaded"] if loads else []
        parts += [f"{' and '.join(map(str, stores))} stored"] if stores else []
        text = ", ".join(parts)
    return Fact("bytes per pass", max(steps), places, text)
