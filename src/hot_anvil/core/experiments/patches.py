"""Edits as a patch that others can apply."""

import difflib
from collections.abc import Iterable, Mapping

from hot_anvil.core.experiments.records import Edit, edited


def patch_of(texts: Mapping[str, str], edits: Iterable[Edit]) -> str:
    """Return a unified diff of files with edits made, "" for none."""
    made = list(edits)
    out: list[str] = []
    for file in dict.fromkeys(edit.file for edit in made):
        after = edited(texts[file], (edit for edit in made if edit.file == file))
        old, new = (text.splitlines(keepends=True) for text in (texts[file], after))
        out += difflib.unified_diff(old, new, f"a/{file}", f"b/{file}")
    return "".join(line if line.endswith("\n") else f"{line}\n" for line in out)
