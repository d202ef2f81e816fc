"""Edits as a patch that others can apply."""

import difflib
from collections.abc import Iterable, Mapping

from hot_anvil.core.experiments.records import Edit, edited_files


def patch_of(texts: Mapping[str, str], edits: Iterable[Edit]) -> str:
    """Return a unified diff of files with edits made, "" for none."""
    out: list[str] = []
    for file, after in edited_files(texts, edits).items():
        old, new = (text.splitlines(keepends=True) for text in (texts[file], after))
        out += difflib.unified_diff(old, new, f"a/{file}", f"b/{file}")
    return "".join(line if line.endswith("\n") else f"{line}\n" for line in out)
