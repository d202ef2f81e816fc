"""Buffers that begin at a multiple of 64 bytes."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Edit, Experiment
from hot_anvil.core.experiments.subject import Subject

LANGUAGES = ("c", "c++")
_BYTES = 64


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give one for all pointers together."""
    names = [pointer.name for pointer in subject.pointers]
    brace = subject.body.children[0] if subject.body.children else None
    if not names or not subject.loops or brace is None or brace.type != "{":
        return
    lines = []
    for name in names:
        cast = f"(__typeof__({name}))" if subject.source.language == "c++" else ""
        lines.append(f" {name} = {cast}__builtin_assume_aligned({name}, {_BYTES});")
    yield Experiment(
        "aligned buffers",
        "where a buffer begins is not known",
        f"{' and '.join(names)} begin{'s' if len(names) == 1 else ''} at a multiple of {_BYTES} "
        "bytes",
        edits=(Edit(subject.source.file, brace.end_byte, brace.end_byte, "".join(lines)),),
    )
