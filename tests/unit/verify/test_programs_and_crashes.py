"""What came of a program's run, and how a process ended, in words that name the place."""

from typing import Any

import pytest

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import Type
from hot_anvil.core.inputs.input_sets import Argument, InputSet
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.verify.crash_report import NOWHERE, Place, Report, in_words, locate
from hot_anvil.core.verify.program_runs import RunOutput, first_difference, told

INT = Type("int", 4, "int")
SURGE = Signature(
    "surge", "surge", INT, (Parameter("levels", Type("pointer", 8, "int *", to=INT)),), "surge.c", 3
)
INPUTS = InputSet(InputSpec({}), (Argument("levels", "buffer", b"\0" * 16, 4, True),))
BASE = 0x400000


def output(text: str, code: int = 0, **files: bytes | None) -> RunOutput:
    return RunOutput(code, text.encode(), tuple(files.items()))


@pytest.mark.parametrize(
    ("got", "said"),
    [
        (output("ebb\nflow\n", log=b"1\n"), ""),
        (output("ebb\nflow\n", 3, log=b"1\n"), "ended with exit code 3, expected 0"),
        (
            output("ebb\nflew\n", log=b"1\n"),
            "line 2 of standard output is 'flew', expected 'flow'",
        ),
        (output("ebb\n", log=b"1\n"), "line 2 of standard output is not there, expected 'flow'"),
        (output("ebb\nflow\n", log=None), "log was not written"),
        (output("ebb\nflow\n", log=b"\x00\n"), r"line 1 of log is '\x00', expected '1'"),
    ],
)
def test_the_first_difference_of_two_runs_is_told(got: RunOutput, said: str) -> None:
    found = first_difference(output("ebb\nflow\n", log=b"1\n"), got)
    assert found.startswith(said) and bool(found) == bool(said)


def test_many_lines_that_differ_are_counted_and_long_ones_cut() -> None:
    long = first_difference(output("ebb\n" + "a" * 99), output("flow\n" + "b" * 99))
    assert long.endswith("(2 lines differ)")
    assert told(output("b" * 99)).count("b") == 60
    assert told(output("", 2, log=None)) == "exit code 2; not there; no log"


def report(**more: Any) -> Report:
    plain = Report(11, 1, 2, 0x7000_0000, BASE + 0x20, 0x7FFF_0000, BASE, -1, 0, ())
    return plain._replace(**more)


@pytest.mark.parametrize(
    ("made", "said"),
    [
        (report(argument=0, offset=16), "writes levels[4], beyond its 4 elements (byte 16 of 16)"),
        (report(argument=0, offset=-4, access=1), "reads levels[-1], before its start"),
        (report(argument=0, offset=4), "writes levels[1], which is const"),
        (report(address=8), "writes through a null pointer, at address 8 (SIGSEGV)"),
        (report(address=0x7FFF_0010), "the stack overflowed"),
        (report(address=BASE + 64), "a constant, or code, of its own program"),
        (report(access=0), "touches memory that is not there"),
        (report(code=128), "without an address: a misaligned vector access, or a wild pointer"),
        (report(signal=8), "divides by zero, or the quotient does not fit (SIGFPE)"),
        (report(signal=6), "aborts"),
        (report(signal=-1), "ends the process"),
    ],
)
def test_a_crash_is_told_in_words(made: Report, said: str) -> None:
    assert said in in_words(made, INPUTS, SURGE)


def test_the_place_is_the_innermost_line_that_is_known() -> None:
    lines = {0x20: ("", 0), 0x4F: ("surge.c", 9), 0x9F: ("main.c", 2)}
    made = report(frames=(BASE + 0x20, BASE + 0x50, BASE + 0xA0))
    found = locate(made, lambda at: lines.get(at, ("", 0)))
    assert found == (Place("surge.c", 9), True)  # the instruction itself is in a library
    lines[0x20] = ("surge.c", 7)
    assert locate(made, lines.__getitem__) == (Place("surge.c", 7), False)
    assert locate(report(), lambda at: ("", 0)) == (NOWHERE, False)
