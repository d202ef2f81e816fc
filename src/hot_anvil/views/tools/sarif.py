"""What compilers complain about, and undefined behaviour, as SARIF 2.1.0, for editors and reviews.

Each finding stands once, with the builds that it is from.
"""

import json
import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple
from urllib.parse import quote

from hot_anvil._version import __version__
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.names import visible
from hot_anvil.core.verify.results import Checked

_SCHEMA = "https://json.schemastore.org/sarif-2.1.0.json"
_FLAG = re.compile(r"\s*\[(-W[\w+=-]+)\]$")  # compilers end a warning with the flag it is from


class _Finding(NamedTuple):
    rule: str
    level: str  # of SARIF: "error", "warning", "note"
    message: str
    file: str
    line: int
    column: int


def compile_sarif(builds: Sequence[Built]) -> str:
    """Return the diagnostics of builds, and those that were refused without one."""
    return _file((finding, b.build.name) for b in builds for finding in _of_build(b))


def check_sarif(checks: Sequence[Checked]) -> str:
    """Return undefined behaviour, and the verdicts that are failures at a known line."""
    return _file(pair for checked in checks for pair in _of_check(checked))


def _of_build(built: Built) -> Iterator[_Finding]:
    for d in built.diagnostics:
        flag = _FLAG.search(d.message)
        rule = flag[1] if flag else f"compiler-{d.severity}"
        text = d.message[: flag.start()] if flag else d.message
        yield _Finding(rule, d.severity, text, d.file, d.line, d.column)
    if built.status != COMPILED and not built.diagnostics:
        yield _Finding("refused", "error", built.why, "", 0, 0)


def _of_check(checked: Checked) -> Iterator[tuple[_Finding, str]]:
    for one in checked.undefined:
        rule = "data-race" if one.is_race else "undefined-behaviour"
        yield _Finding(rule, "error", one.message, one.place.file, one.place.line, 0), one.build
    for v in checked.verdicts:
        if v.failing and v.place.line:
            text = f"{v.candidate} is {v.verdict}: {v.why}"
            yield _Finding(v.verdict, "error", text, v.place.file, v.place.line, 0), v.build


def _file(found: Iterator[tuple[_Finding, str]]) -> str:
    builds: dict[_Finding, list[str]] = {}
    for finding, build in found:
        names = builds.setdefault(finding, [])
        if build not in names:
            names.append(build)
    rules = sorted({finding.rule for finding in builds})
    driver = {
        "name": "Hot Anvil", "version": __version__, "semanticVersion": __version__,
        "rules": [{"id": rule} for rule in rules],
    }  # fmt: skip
    run = {
        "tool": {"driver": driver},
        "columnKind": "utf16CodeUnits",
        "results": [_result(finding, names, rules) for finding, names in builds.items()],
    }
    return json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=1) + "\n"


def _result(finding: _Finding, builds: Sequence[str], rules: Sequence[str]) -> dict[str, Any]:
    text = visible(" ".join(finding.message.split())) or finding.rule
    out: dict[str, Any] = {
        "ruleId": finding.rule, "ruleIndex": rules.index(finding.rule), "level": finding.level,
        "message": {"text": text}, "properties": {"builds": list(builds)},
    }  # fmt: skip
    if finding.file:
        place: dict[str, Any] = {"artifactLocation": {"uri": _uri(finding.file)}}
        if finding.line:
            region = {"startLine": finding.line}
            place["region"] = region | ({"startColumn": finding.column} if finding.column else {})
        out["locations"] = [{"physicalLocation": place}]
    return out


def _uri(file: str) -> str:
    """Return a file as a reference: relative to the bench, or with its scheme."""
    path = quote(file.removeprefix("./"), safe="/", errors="surrogateescape")
    return f"file://{path}" if file.startswith("/") else path
