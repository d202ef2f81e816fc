"""A call stepped through, as data."""

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from hot_anvil.core.code.records import Instruction
from hot_anvil.core.kernels.records import ThreadSteps
from hot_anvil.core.kernels.told import Told
from hot_anvil.core.trace.moments import Moment
from hot_anvil.core.trace.parting import Agreement, Parting
from hot_anvil.core.trace.records import ShownCall, Stepped
from hot_anvil.core.trace.summary import Summary
from hot_anvil.core.trace.turning import SideOf
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.json.launch import launched

Spell = Callable[[Instruction], Instruction]


def step_document(told: ShownCall, spell: Spell) -> Document:
    """Return the document of ``step`` with one candidate."""
    return document(
        "step",
        **call(told.stepped),
        summary=summary(told.summary),
        steps=[step(told, moment, spell) for moment in told.shown.moments],
        steps_chosen=told.shown.chosen,
    )


def call(stepped: Stepped) -> Document:
    """Return which call it was and what came of it."""
    return {
        "snippet": stepped.snippet,
        "candidate": stepped.candidate,
        "entry": stepped.entry,
        "build": stepped.build,
        "inputs": {"label": stepped.label, "values": dict(stepped.inputs)},
        "stepped_by": stepped.by,
        "ending": stepped.ending,
        "why": stepped.why or None,
        "output": stepped.output or None,
        "recorded": stepped.tape.count,
        "goes_on": stepped.tape.full,
        "without_names": list(stepped.nameless),
    }


def summary(found: Summary) -> Document:
    """Return what a call did in all."""
    return {
        "executed": found.executed,
        "loads": found.loads,
        "stores": found.stores,
        "stack_bytes": found.stack,
        "lines": [one._asdict() for one in found.lines],
        "loops": [one._asdict() for one in found.loops],
        "branches": [one._asdict() for one in found.branches],
        "calls": [one._asdict() for one in found.calls],
    }


def step(told: ShownCall, moment: Moment, spell: Spell) -> Document:
    """Return one step."""
    place = moment.place
    item = spell(place.instruction)
    return {
        "number": moment.step.number,
        "depth": moment.depth,
        "call": moment.frame,
        "function": told.stepped.map.title(place.function),
        "file": place.file or None,
        "line": place.line or None,
        "passes": list(moment.passes),
        "address": moment.step.address,
        "text": item.text,
        "words": item.words or None,
        "registers": [
            {"name": name, "before": before, "after": after}
            for name, before, after in _registers(told, moment)
        ],
        "set": [
            {
                "kind": one.whose,
                "name": one.name,
                "type": one.type,
                "before": one.before or None,
                "after": one.after,
            }
            for one in moment.settings
        ],
        "accesses": [
            {
                "stored": one.stored,
                "address": one.address,
                "bytes": one.data.hex(),
                "before": one.before.hex() if one.before is not None else None,
            }
            for one in moment.step.accesses
        ],
        "taken": moment.taken,
        "calls": moment.going.calls or None,
        "enters": moment.going.enters or None,
        "comes_back": moment.going.comes_back,
        "returns": moment.going.returns,
        "other_code_ran": moment.step.beyond or moment.going.comes_back,
    }


def _registers(told: ShownCall, moment: Moment) -> Iterator[tuple[str, str, str]]:
    state = told.walk.state
    for change in moment.step.changes:
        name = told.walk.tape.registers[change.register].name
        if name == state.flags:
            yield name, state.flag_text(change.before), state.flag_text(change.after)
        else:
            fitting = state.called(name, max(change.before, change.after))
            yield fitting, f"{change.before:#x}", f"{change.after:#x}"


def parting_document(
    sides: Sequence[Stepped],
    parting: Parting | Agreement,
    leading: Sequence[ShownCall],
    spells: Sequence[Spell],
) -> Document:
    """Return the document of ``step`` with two candidates."""
    apart = isinstance(parting, Parting)
    told = zip(sides, leading, spells, strict=True)
    return document(
        "step",
        disagree=apart,
        compared=parting.compared,
        how=parting.how if isinstance(parting, Parting) else None,
        name=(parting.name or None) if isinstance(parting, Parting) else None,
        sides=[
            {
                **call(stepped),
                "summary": summary(shown.summary),
                "at": _side(side) if side else None,
                "steps": [step(shown, moment, spell) for moment in shown.shown.moments],
            }
            for (stepped, shown, spell), side in zip(told, _sides(parting), strict=True)
        ],
    )


def _sides(parting: Parting | Agreement) -> tuple[SideOf | None, SideOf | None]:
    return (parting.left, parting.right) if isinstance(parting, Parting) else (None, None)


def _side(side: SideOf) -> Document:
    return {
        "file": side.file or None,
        "line": side.line or None,
        "passes": list(side.passes),
        "step": side.at or None,
        "value": side.event.value if side.event else None,
        "decides": side.decided,
        "last_that_agrees": side.last or None,
    }


def threads_document(
    steps: ThreadSteps, told: Sequence[Told], limit: int, spell: Spell
) -> Document:
    """Return the document of ``step`` with one thread or warp of a kernel."""
    return document(
        "step",
        kernel=launched(steps.launch),
        block_number=steps.block,
        threads=list(steps.threads),
        recorded=len(steps.moments),
        goes_on=steps.full,
        steps_chosen=len(told),
        steps=[_thread_step(one, spell) for one in told[:limit]],
    )


def _thread_step(one: Told, spell: Spell) -> Document:
    item = spell(one.instruction)
    return {
        "number": one.number,
        "file": one.file or None,
        "line": one.line or None,
        "text": item.text,
        "words": item.words or None,
        "threads_there": list(one.moment.threads),
        "threads": list(one.threads),
        "registers": [
            {
                "name": row.name,
                "type": row.type,
                "threads": list(row.threads),
                "before": [_hexadecimal(data) for data in row.before],
                "after": [_hexadecimal(data) for data in row.after],
            }
            for row in one.moment.sets
        ],
        "accesses": [
            {
                "thread": row.thread,
                "space": row.space,
                "name": row.name or None,
                "offset": row.offset,
                "stored": row.stored,
                "bytes": row.after.hex(),
                "before": row.before.hex() if row.stored else None,
            }
            for row in one.moment.touched
        ],
        "told": list(one.said),
    }


def _hexadecimal(data: bytes) -> str:
    return f"{int.from_bytes(data, 'little'):#x}"


def thread_rows(told: Sequence[Told], spell: Spell) -> Iterator[Sequence[Any]]:
    """Give the rows of a table: one for each step of the threads of a kernel."""
    yield "step", "file", "line", "instruction", "threads", "told"
    for one in told:
        yield (one.number, one.file, one.line or "", spell(one.instruction).text,
               len(one.threads), "; ".join(one.said))  # fmt: skip


def step_rows(*sides: Any) -> Iterator[Sequence[Any]]:
    """Give the rows of a table: one for each thing that a step changed, or for the step alone.

    ``sides`` are recorded calls, each followed by what spells its instructions.
    """
    yield ("candidate", "step", "function", "file", "line", "pass", "instruction", "what", "name",
           "before", "after")  # fmt: skip
    for told, spell in zip(sides[::2], sides[1::2], strict=True):
        yield from _rows(told, spell)


def _rows(told: ShownCall, spell: Spell) -> Iterator[Sequence[Any]]:
    for moment in told.shown.moments:
        place = moment.place
        head = (
            told.stepped.candidate, moment.step.number, told.stepped.map.title(place.function),
            place.file, place.line or "", " ".join(map(str, moment.passes)),
            spell(place.instruction).text,
        )  # fmt: skip
        rows = [("register", *row) for row in _registers(told, moment)]
        rows += [(one.whose, one.name, one.before, one.after) for one in moment.settings]
        for row in rows or [("", "", "", "")]:
            yield *head, *row
