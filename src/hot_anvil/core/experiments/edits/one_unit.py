"""Helpers of other files seen where they are called: one unit against several."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Edit, Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import Source

LANGUAGES = ("c", "c++")


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give one for each other file whose functions the entry calls.

    The file is read a second time before the entry's own, its functions under other names; a file
    with variables is left out, since there would be two of each.
    """
    files = dict.fromkeys(s.file for s, _ in subject.helpers.values() if s is not subject.source)
    for file in files:
        other = subject.sources[file]
        if _has_variables(other) or other.language != subject.source.language:
            continue
        names = list(other.functions())
        renamed = "".join(f"#define {name} {name}_seen_here\n" for name in names)
        text = f'{renamed}#include "{_beside(subject.source.file, file)}"\n'
        yield Experiment(
            f"{file} in one unit",
            f"{' and '.join(n for n, (s, _) in subject.helpers.items() if s is other)} is compiled "
            "apart, in another file",
            edits=(
                Edit(subject.source.file, 0, 0, f'{text}#line 1 "{subject.source.file}"\n'),
            ),
        )  # fmt: skip


def _has_variables(source: Source) -> bool:
    """Tell whether a file defines variables that calls could change."""
    for node in source.root.children:
        words = source.words(node) if node.type == "declaration" else "extern"
        known = "(" in words or words.startswith(("extern", "typedef")) or "const" in words.split()
        if not known:
            return True
    return False


def _beside(file: str, other: str) -> str:
    """Return how one file of a bench is named from the folder of another."""
    up = "../" * file.count("/")
    return f"{up}{other}"
