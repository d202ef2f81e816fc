"""Runs of whole programs: what came out, and the first line that differs."""

from collections.abc import Mapping
from typing import Literal, NamedTuple

from hot_anvil.core.config.records import ProgramRun
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.core.verify.verdicts import Word

_SHOWN = 60  # characters of a line
EXIT, STDOUT, STDERR = "exit code", "standard output", "standard error"


class RunOutput(NamedTuple):
    """What one run of a program left behind."""

    code: int  # exit code
    stdout: bytes
    files: tuple[tuple[str, bytes | None], ...]  # name, contents; None for one not written


class Ran(NamedTuple):
    """One run: its output, or how it ended."""

    output: RunOutput | None
    ending: Word | Literal[""]  # "", CRASHED or HUNG
    why: str
    place: Place = NOWHERE
    complaints: str = ""  # what it wrote on its standard error


def run_label(run: ProgramRun, number: int) -> str:
    """Return what tells a run from the program's others."""
    words = " ".join(run.arguments)
    return f"run {number + 1}" + (f" ({words})" if words else "")


def first_difference(expected: RunOutput, got: RunOutput) -> str:
    """Return the first difference of two outputs in words, "" when they agree.

    Texts are compared byte by byte and shown by line.
    """
    if expected.code != got.code:
        return f"ended with exit code {got.code}, expected {expected.code}"
    said = _text_difference(STDOUT, expected.stdout, got.stdout)
    left = dict(expected.files)
    for name, data in got.files:
        if said:
            break
        wanted = left.get(name)
        if (wanted is None) != (data is None):
            said = f"{name} was {'not ' if data is None else ''}written"
        elif wanted is not None and data is not None:
            said = _text_difference(name, wanted, data)
    return said


def _text_difference(what: str, expected: bytes, got: bytes) -> str:
    if expected == got:
        return ""
    left, right = expected.split(b"\n"), got.split(b"\n")
    pairs = zip(left, right, strict=False)
    at = next((k for k, (a, b) in enumerate(pairs) if a != b), min(len(left), len(right)))
    shown = [_line(lines, at) for lines in (right, left)]
    differing = sum(a != b for a, b in zip(left, right, strict=False)) + abs(len(left) - len(right))
    more = f" ({differing} lines differ)" if differing > 1 else ""
    return f"line {at + 1} of {what} is {shown[0]}, expected {shown[1]}{more}"


def _line(lines: list[bytes], at: int) -> str:
    """Return one line as it is told; what is no text is written as escapes."""
    if at >= len(lines) or (at == len(lines) - 1 and not lines[at]):
        return "not there"
    text = lines[at].decode(errors="backslashreplace")
    text = "".join(c if c.isprintable() else repr(c)[1:-1] for c in text)
    return f"'{text[:_SHOWN]}{'..' if len(text) > _SHOWN else ''}'"


def told(output: RunOutput) -> str:
    """Return an output in a few words."""
    first = _line(output.stdout.split(b"\n"), 0)
    lines = output.stdout.count(b"\n")
    text = f"{first}, {lines} lines" if lines > 1 else first
    files = [
        f"{name}: {len(d)} bytes" if d is not None else f"no {name}" for name, d in output.files
    ]
    return "; ".join([f"exit code {output.code}", text, *files])


def with_expected(output: RunOutput, run: ProgramRun, texts: Mapping[str, bytes]) -> RunOutput:
    """Return the reference's output with what the bench expects in place of it.

    ``texts`` holds what is expected of standard output and of files.
    """
    files = tuple((name, texts.get(name, data)) for name, data in output.files)
    code = int(run.expected.get("exit", output.code))
    return RunOutput(code, texts.get(STDOUT, output.stdout), files)
