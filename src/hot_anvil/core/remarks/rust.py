"""What the Rust compiler passes on of LLVM's remarks: among its messages, as JSON, line by line."""

import json
import re
from collections.abc import Iterator, Mapping

from hot_anvil.core.remarks.llvm import with_causes
from hot_anvil.core.remarks.records import ANALYSIS, DONE, MISSED, Kind, Remark

_KINDS: Mapping[str, Kind] = {"success": DONE, "missed": MISSED, "analysis": ANALYSIS}
_REMARK = re.compile(r"(?:<unknown file>|(.+?)):(\d+):(\d+) (\S+) \((\w+)\): (.*)", re.DOTALL)
_IN = re.compile(r"'[^']+' (?:not )?inlined into '([^']+)'|in function '([^']+)'|Function: (\S+?):")


def read_records(text: str) -> Iterator[Remark]:
    """Give the remarks among a compiler's messages, in their order."""
    yield from with_causes(_remarks(text))


def _remarks(text: str) -> Iterator[Remark]:
    for line in text.split("\n"):
        if '"level":"note"' not in line:
            continue
        found = _REMARK.fullmatch(json.loads(line)["message"])
        if found:
            file, row, column, step, kind, said = found.groups()
            owner = _IN.search(said)
            yield Remark(
                file or "", int(row), int(column),
                next((name for name in owner.groups() if name), "") if owner else "",
                step, _KINDS.get(kind, ANALYSIS), " ".join(said.split()),
            )  # fmt: skip
