"""One complaint of a compiler, as a record."""

from typing import Literal, NamedTuple

Severity = Literal["error", "warning", "note"]


class Diagnostic(NamedTuple):
    """One error, warning or note of a compiler."""

    file: str
    line: int  # 0 when it concerns no line
    column: int  # bytes from the start of the line, from 1; 0 when not known
    severity: Severity
    message: str
