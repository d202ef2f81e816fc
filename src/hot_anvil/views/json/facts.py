"""Facts as a JSON document and as rows of a table."""

from collections.abc import Sequence
from typing import Any

from hot_anvil.core.code.records import Instruction, parts_by_owner
from hot_anvil.core.facts.records import (
    ALL,
    FUNCTION_FACTS,
    LOOP_FACTS,
    Fact,
    FunctionFacts,
    LoopFacts,
)  # fmt: skip
from hot_anvil.core.facts.table import SnippetFacts, instructions_of, timing_loops
from hot_anvil.views.json.document import Document, document


def names_document() -> Document:
    """Return the names of all facts as a document."""
    return document("fact names", functions=FUNCTION_FACTS, loops=LOOP_FACTS)


def facts_document(found: Sequence[SnippetFacts], names: Sequence[str], evidence: bool) -> Document:
    """Return the document of ``facts``; with ``evidence`` the instructions' text too."""
    functions = []
    for one in found:
        for column in one.table.columns:
            shown = evidence and column.functions is not None
            owners = parts_by_owner(one.codes[column.build].functions) if shown else {}
            for function in column.functions or ():
                items = instructions_of(owners, function.name)
                functions.append(_plain(one.table.snippet, column.build, function, names, items))
    refused = [
        {"snippet": one.table.snippet, "build": column.build, "why": column.why}
        for one in found
        for column in one.table.columns
        if column.functions is None
    ]
    silent = [
        {"snippet": one.table.snippet, "file": line.file, "line": line.line, "text": line.text,
         "builds": list(line.builds), "everywhere": line.everywhere}
        for one in found
        for line in one.silent
    ]  # fmt: skip
    timing = [
        {"snippet": one.table.snippet, "function": function.title, "file": loop.file,
         "lines": loop.lines, "builds": dict(words)}
        for one in found
        for function, loop, words in timing_loops(one.table)
    ]  # fmt: skip
    scalar = [
        {"snippet": one.table.snippet, "function": loop.function, "file": loop.file,
         "lines": loop.lines, "builds": list(loop.builds), "why": loop.why or None}
        for one in found
        for loop in one.scalar
    ]  # fmt: skip
    return document(
        "facts", functions=functions, refused=refused, lines_without_code=silent,
        timing_loops=timing, not_vectorised=scalar,
    )  # fmt: skip


def _plain(
    snippet: str,
    build: str,
    function: FunctionFacts,
    names: Sequence[str],
    items: Sequence[Instruction],
) -> Document:
    def facts(own: Sequence[Fact]) -> Document:
        return {f.name: _fact(f, items) for f in own if not names or f.name in names}

    return {
        "snippet": snippet,
        "build": build,
        "function": function.title,
        "symbol": function.name,
        "file": function.file,
        "line": function.line,
        "facts": facts(function.facts),
        "loops": [_loop(loop, facts(loop.facts)) for loop in function.loops],
    }


def _loop(loop: LoopFacts, facts: Document) -> Document:
    return {
        "number": loop.number,
        "depth": loop.depth,
        "inside": loop.inside or None,
        "file": loop.file,
        "first_line": loop.first,
        "last_line": loop.last,
        "begins": loop.header,
        "part": loop.part,
        "facts": facts,
    }


def _fact(fact: Fact, items: Sequence[Instruction]) -> Document:
    value: Any = list(fact.value) if isinstance(fact.value, tuple) else fact.value
    places = "all" if fact.places == ALL else list(fact.places)
    out = {"value": value, "words": fact.words, "note": fact.note, "evidence": places}
    if items and fact.places != ALL:
        out["instructions"] = [items[place].text for place in fact.places]
    return out
