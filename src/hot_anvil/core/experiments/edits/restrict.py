"""``restrict`` on pointer parameters: one at a time, then all."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Pointer, Subject
from hot_anvil.core.experiments.syntax import identifier_in

LANGUAGES = ("c", "c++")


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give one for each pointer of several, and one for all of them.

    With only one pointer it is tried where other memory is reached too: variables of the file.
    """
    found = [one for pointer in subject.pointers if (one := _restricted(subject, pointer))]
    yield from found
    if len(found) > 1:
        yield Experiment(
            "restrict on all",
            "what is stored through one pointer may be what another one reads",
            "no two of the buffers overlap",
            edits=tuple(edit for one in found for edit in one.edits),
            apart=tuple(name for one in found for name in one.apart),
        )


def _restricted(subject: Subject, pointer: Pointer) -> Experiment | None:
    source = subject.source
    if pointer.is_array:
        size = pointer.declarator.child_by_field_name("size")
        bracket = next((c for c in pointer.declarator.children if c.type == "["), None)
        if source.language != "c" or bracket is None or size is not None:
            return None
        edit = source.after(bracket, "restrict")
    else:
        name = identifier_in(pointer.declarator)
        if name is None or "restrict" in source.words(pointer.declarator):
            return None
        edit = source.before(name, "__restrict ")
    return Experiment(
        f"restrict {pointer.name}",
        "what is stored through one pointer may be what another one reads",
        f"the buffer of {pointer.name} overlaps no other memory that is used",
        edits=(edit,),
        apart=(pointer.name,),
    )
