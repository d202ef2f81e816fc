"""Where a verdict is decided: what the runs of a candidate show, and in which order it counts."""

import pytest

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import Type
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.records import Tolerance
from hot_anvil.core.inputs.input_sets import Argument, InputSet
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.core.verify.overlap import overlaps
from hot_anvil.core.verify.sanitizer_reports import read_fault, suspects
from hot_anvil.core.verify.verdicts import Trial, judge

INT = Type("int", 4, "int")
HEIGHTS = Type("pointer", 8, "int *", to=INT)
SURGE = Signature("surge", "surge", INT, (Parameter("heights", HEIGHTS),), "surge.c", 3)


def sets(count: int) -> list[InputSet]:
    data = b"\0" * 8
    return [
        InputSet(InputSpec({"n": n}), (Argument("heights", "buffer", data, 2, True),))
        for n in range(count)
    ]


def output(value: int, buffer: bytes = b"\0" * 8) -> Output:
    return Output(value.to_bytes(4, "little"), (("heights", buffer),))


def trial(*values: int) -> Trial:
    return Trial(tuple(output(value) for value in values), "", "")


def verdict(*trials: Trial, excused: tuple[int, ...] = ()) -> tuple[str, str, int]:
    expected = [output(1), output(2)]
    found = judge(expected, SURGE, trials, SURGE, sets(2), Tolerance(), excused)
    return found.verdict, found.why, found.at


def test_the_same_outputs_are_correct_and_others_wrong_at_the_first_set() -> None:
    assert verdict(trial(1, 2), trial(1, 2)) == ("correct", "", -1)
    word, why, at = verdict(trial(1, 7), trial(1, 7))
    assert (word, at) == ("wrong", 1) and "returned 7, expected 2" in why
    assert verdict(trial(1, 7), trial(1, 7), excused=(1,)) == ("correct", "", -1)


def test_what_ends_a_process_counts_before_what_it_computed() -> None:
    crashed = trial(9, 9)._replace(ending="crashed", why="SIGSEGV", at=1)
    assert verdict(trial(9, 9), crashed) == ("crashed", "SIGSEGV", 1)


def test_two_runs_that_differ_are_unstable_even_if_one_is_right() -> None:
    word, why, at = verdict(trial(1, 2), trial(1, 3))
    assert (word, at) == ("unstable", 1) and why.startswith("two runs differ")


def test_what_is_written_counts_as_what_is_returned() -> None:
    other = Trial((output(1), output(2, b"\1" + b"\0" * 7)), "", "")
    word, why, at = verdict(other, other)
    assert (word, at) == ("wrong", 1) and "heights" in why


ADDRESS = """==7==ERROR: AddressSanitizer: heap-buffer-overflow on address 0x60200 at pc 0x55
READ of size 4 at 0x60200 thread T0
    #0 0x7f (/lib/libc.so.6+0x10)
    #1 0x55 (/quay/worker+0x1234)
"""


@pytest.mark.parametrize(
    ("text", "message", "place"),
    [
        ("surge.c:7:5: runtime error: signed integer overflow: 3 * 9", "signed integer overflow: "
         "3 * 9", Place("surge.c", 7)),
        (ADDRESS, "heap-buffer-overflow (read of 4 bytes)", Place("surge.c", 12)),
        ("/usr/include/bits.h:9:1: runtime error: shift\n    #0 0x1 (worker+0x1234)\n", "shift",
         Place("surge.c", 12)),
        ("WARNING: ThreadSanitizer: data race (pid=7)\n", "data race", NOWHERE),
    ],
)  # fmt: skip
def test_sanitizers_words_become_a_message_and_a_line(
    text: str, message: str, place: Place
) -> None:
    lines = {0x1234: ("surge.c", 12)}
    found = read_fault(text, "/quay/worker", lambda at: lines.get(at, ("", 0)), lambda path: path)
    assert found == (message, place)


def test_no_fault_is_none() -> None:
    assert read_fault("all is well\n", "w", lambda at: ("", 0), str) is None


def test_warnings_are_suspects_only_inside_the_entry_and_about_what_it_computes() -> None:
    def warning(line: int, message: str, severity: str = "warning") -> Diagnostic:
        return Diagnostic("surge.c", line, 1, severity, message)  # type: ignore[arg-type]

    flow = SURGE._replace(name="flow", line=20)
    found = suspects(
        [
            warning(5, "'sum' is used uninitialized"),
            warning(6, "unused variable 'ebb'"),
            warning(7, "declared here", "note"),
            warning(25, "array subscript 9 is above array bounds"),
        ],
        SURGE, [SURGE, flow], "gcc-12",
    )  # fmt: skip
    assert len(found) == 1 and "used uninitialized" in found[0] and "5" in found[0]


@pytest.mark.parametrize(
    ("restrict", "writable", "file", "told"),
    [
        (True, True, "surge.c", "is restrict"),
        (False, True, "surge.c", ""),  # both of one type: they may overlap
        (True, False, "surge.c", ""),  # nothing is written
        (True, True, "surge.rs", ""),  # another language's rules
        (True, True, "surge.f90", "Fortran takes it"),
    ],
)
def test_an_alias_is_told_where_the_declaration_forbids_it(
    restrict: bool, writable: bool, file: str, told: str
) -> None:
    to = INT._replace(const=not writable)
    other = HEIGHTS._replace(to=to)
    two = (Parameter("levels", other._replace(restrict=restrict)), Parameter("kept", other))
    signature = SURGE._replace(parameters=two, file=file)
    arguments = (
        Argument("levels", "buffer", b"\0" * 8, 2, True),
        Argument("kept", "alias", b"", 2, True, target=0),
    )
    found = list(overlaps(signature, InputSet(InputSpec({}), arguments)))
    assert bool(found) == bool(told) and (not found or told in found[0].message)
