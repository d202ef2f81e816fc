"""Facts of all functions of one build's code."""

from collections.abc import Collection, Iterator, Mapping

from hot_anvil.core.asm.listing import Sources
from hot_anvil.core.code.records import Code, parts_by_owner
from hot_anvil.core.facts.frame import frame_facts
from hot_anvil.core.facts.functions import call_facts, guard_facts, recursion_fact, size_facts
from hot_anvil.core.facts.loops import loop_facts
from hot_anvil.core.facts.records import FUNCTION_FACTS, Fact, FunctionFacts
from hot_anvil.core.facts.values import is_void, outcome_facts
from hot_anvil.core.model.control_flow import Body, ending_calls
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.parallel import Spread, in_order

_ORDER = {name: place for place, name in enumerate(FUNCTION_FACTS)}


def gather_facts(
    code: Code,
    sources: Sources,
    sizes: Mapping[str, int],
    spread: Spread = in_order,
) -> list[FunctionFacts]:
    """Return the facts of every function, in text order.

    ``sizes`` are the bytes of functions as the object has them. ``spread`` may share the work
    over the cores.
    """
    owners = parts_by_owner(code.functions)
    names = list(owners)
    last = ending_calls(code.functions, code.isa)

    def one(k: int) -> FunctionFacts:
        owner = names[k]
        body = Body(owner, owners[owner], code.isa, last)
        known = [sizes[p.name] for p in owners[owner] if p.name in sizes]
        size = sum(known) if len(known) == len(owners[owner]) else None
        return facts_of(body, code.titles, sources, size, owners.keys())

    return list(spread(one, [sum(len(p.instructions) for p in owners[n]) for n in names]))


def facts_of(
    body: Body,
    titles: Mapping[str, str],
    sources: Sources,
    size: int | None,
    bodies: Collection[str] = (),
) -> FunctionFacts:
    """Return the facts of one function; ``bodies``: functions that stand in the same code."""
    side = FunctionModel(body, None, ())
    title = titles.get(body.owner, body.owner)
    file, line = body.begins
    facts = list(_function_facts(side, titles, sources, size, bodies, title))
    facts.sort(key=lambda fact: _ORDER[fact.name])
    text = " ".join(sources.get(file, ())[max(line - 2, 0) : line])
    loops = loop_facts(side, titles, is_void(text, title.partition("(")[0]))
    return FunctionFacts(body.owner, title, file, line, tuple(facts), loops)


def _function_facts(
    side: FunctionModel,
    titles: Mapping[str, str],
    sources: Sources,
    size: int | None,
    bodies: Collection[str],
    title: str,
) -> Iterator[Fact]:
    yield from size_facts(side, size)
    yield from outcome_facts(side)
    starts = tuple(side.body.leaders[loop.header] for loop in side.loops)
    yield Fact("loops", len(side.loops), starts)
    yield from call_facts(side, titles, bodies)
    found = recursion_fact(side, sources, title)
    if found:
        yield found
    yield from frame_facts(side)
    yield from guard_facts(side)
