"""Facts of a whole function."""

import re
from collections.abc import Collection, Mapping

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.helpers import ATOMIC_CALL, RETPOLINE
from hot_anvil.core.asm.listing import Sources
from hot_anvil.core.facts.records import ALL, Fact
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import CHECKED_COPY, COUNTING, HEAP, PANIC, SANITISER, STACK_GUARD

Titles = Mapping[str, str]


def size_facts(side: FunctionModel, size: int | None) -> list[Fact]:
    """Return instructions, bytes (``size``, where the object tells), section and padding."""
    if size is None and len(side) and all(i.size >= 0 for i in side.body.items):
        size = sum(i.size for i in side.body.items)
    note = "" if size is not None else "there is no object"
    return [
        Fact("instructions", len(side), ALL),
        Fact("bytes", size, ALL, note=note),
        *_sections(side),
        _padding(side),
    ]


def _sections(side: FunctionModel) -> list[Fact]:
    """Return where the code goes, if that is not where a compiler puts code by itself."""
    placed = [name for name in side.body.sections if not name.startswith(".text")]
    return [Fact("section", " ".join(placed), ALL)] if placed else []


def _padding(side: FunctionModel) -> Fact:
    items = side.body.items
    fillers = side.body.arch.syntax.fillers
    texts = side.body.texts
    nothing = (k for k in side.by_kind.get(b.NOTHING, ()) if not items[k].inline_asm)
    found = [k for k in nothing if fillers.match(texts[k])]
    count = sum(max(items[k].size, 1) for k in found)
    gaps = _gaps(side)
    return Fact("padding", count + sum(gaps.values()), tuple(sorted({*found, *gaps})))


def _gaps(side: FunctionModel) -> dict[int, int]:
    """Return the bytes that an assembler put before instructions to align them."""
    out = {}
    data, starts = side.body.data_bytes, set(side.body.starts)
    end = -1
    for k, item in enumerate(side.body.items):
        if 0 <= end < item.address and k not in starts:
            gap = item.address - end - data.get(k, 0)
            if gap > 0:
                out[k] = gap
        end = item.address + item.size if item.address >= 0 and item.size >= 0 else -1
    return out


def call_facts(side: FunctionModel, titles: Titles, bodies: Collection[str]) -> list[Fact]:
    """Return what is called, inlined, not inlined; ``bodies``: functions of this source."""
    calls = []
    for k, done in enumerate(side.effects):
        if done.kind not in (b.CALL, b.JUMP):
            continue
        tail = done.kind == b.JUMP
        if tail and not (side.body.leaves(k) or (done.indirect and not side.body.table_goals)):
            continue
        if done.target and STACK_GUARD.fullmatch(done.target):
            continue
        name = short_title(titles.get(done.target, done.target)) or "*"
        calls.append((k, done.target, f"{name} (tail)" if tail else name))
    own = [(k, t) for k, t, _ in calls if t in bodies and t != side.body.owner]
    names = dict.fromkeys(short_title(titles.get(t, t)) for _, t in own)
    places = tuple(k for k, _, _ in calls)
    out = [
        Fact("calls", tuple(words for _, _, words in calls), places),
        _inlined(side),
        Fact("not inlined", tuple(names), tuple(k for k, _ in own)),
    ]
    for name, pattern in (("heap", HEAP), ("counting", COUNTING)):
        found = [(k, words) for k, target, words in calls if target and pattern.fullmatch(target)]
        if found:
            out.append(Fact(name, tuple(w for _, w in found), tuple(k for k, _ in found)))
    return out


def short_title(title: str) -> str:
    """Return a function's name without its parameters."""
    title = re.sub(r"::h[0-9a-f]{16}$", "", title)  # what rustc adds to tell crates apart
    return title if "operator()" in title else title.partition("(")[0]


def _inlined(side: FunctionModel) -> Fact:
    groups: dict[tuple[str, int], list[int]] = {}
    for k, item in enumerate(side.body.items):
        if item.function:
            name = item.chain[-2].function if len(item.chain) > 1 else item.function
            line = item.chain[-1].line if item.chain else 0
            groups.setdefault((name or "?", line), []).append(k)
    words = [f"{name} from line {line}: {len(found)}" for (name, line), found in groups.items()]
    return Fact("inlined", tuple(words), tuple(k for found in groups.values() for k in found))


def recursion_fact(side: FunctionModel, sources: Sources, title: str) -> Fact | None:
    """Return whether a function calls itself, or did in its source; None when it never did."""
    own = [k for k in side.of((b.CALL,)) if side.effects[k].target == side.body.owner]
    if own:
        return Fact("recursion", "calls itself", tuple(own))
    file, begins = side.body.begins
    plain = title.partition("(")[0].rpartition("::")[2].partition("<")[0]
    last = max((i.line for i in side.body.items if i.file == file), default=0)
    text = sources.get(file, ())[begins:last] if begins else ()
    near = (n for n, t in enumerate(text, 1) if f"{plain}(" in t and _calls(_code(t), plain))
    line = next((begins + n for n in near), 0)
    if not line:
        return None
    backs = tuple(k for n in range(len(side.loops)) for k in side.backs(n))
    note = f"line {line} calls it in the source"
    return Fact("recursion", "became a loop" if backs else "gone", backs, note=note)


def _calls(text: str, name: str) -> bool:
    """Tell whether source text calls a function, and not another's of a longer name."""
    before = text.partition(f"{name}(")[0]
    return f"{name}(" in text and not re.search(r"[\w.>:]$", before)


def _code(line: str) -> str:
    """Return a source line without texts and comments."""
    return re.sub(r'"(?:\\.|[^"])*"|//.*|/\*.*?\*/', "", line)


def guard_facts(side: FunctionModel) -> list[Fact]:
    """Return what the compiler added to guard, checks, atomics, assembly, tables, divisions."""
    probe = side.body.arch.abi.frame.probe
    named = [
        (k, done.target)
        for k, done in enumerate(side.effects)
        if done.target and done.target[0] not in ".$"
    ]
    guards: dict[str, list[int]] = {
        "stack guard": [k for k, t in named if STACK_GUARD.fullmatch(t)],
        "landing pad": side.of((b.LANDING,)),
        "checked copy": [
            k for k, t in named if CHECKED_COPY.fullmatch(t) and not STACK_GUARD.fullmatch(t)
        ],
        "run-time check": [k for k, t in named if SANITISER.fullmatch(t)],
        "thunk": [k for k, t in named if RETPOLINE.fullmatch(t)],
        "stack probe": [k for k in side.of((b.LOGIC,)) if probe.match(side.body.texts[k])],
    }
    guards = {name: found for name, found in guards.items() if found}
    evidence = tuple(sorted(k for found in guards.values() for k in found))
    checks = [k for k, t in named if PANIC.fullmatch(t)] + side.of((b.TRAP,))
    atomics = side.of((b.ATOMIC, b.FENCE)) + [k for k, t in named if ATOMIC_CALL.fullmatch(t)]
    written = [k for k, item in enumerate(side.body.items) if item.inline_asm]
    jumps = [k for k in side.of((b.JUMP,)) if side.effects[k].indirect]
    tables = jumps if side.body.table_goals else []
    unknown = [k for k in jumps if k not in tables and not _ends_like_return(side, k)]
    rows = {
        "divisions": side.of((b.DIV, b.FDIV)), "checks": sorted(checks),
        "atomics": sorted(atomics), "inline assembly": written, "jump tables": tables,
        "unresolved": unknown,
    }  # fmt: skip
    return [
        Fact("hardening", tuple(guards), evidence),
        *(Fact(name, len(found), tuple(found)) for name, found in rows.items()),
    ]


def _ends_like_return(side: FunctionModel, k: int) -> bool:
    """Tell whether an indirect jump is a tail call: the frame is gone, and nothing follows."""
    following = side.body.next_blocks[side.body.block_of[k]]
    return not following
