"""What is written on a tape is read from it, from any step on; QEMU's log becomes the same."""

import io
import tempfile
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.arch import state_of
from hot_anvil.core.arch.state import Register
from hot_anvil.core.trace.emulator_log import LogReader
from hot_anvil.core.trace.tape import BEYOND, FULL, Access, Change, Tape, pack

REGISTERS = (Register("narrow", 8), Register("wide", 64), Register("vector", 512))
VALUES = [st.integers(0, (1 << register.bits) - 1) for register in REGISTERS]
ACCESSES = st.builds(
    lambda stored, address, data, before: Access(stored, address, data, before and data[::-1]),
    st.booleans(), st.integers(0, (1 << 64) - 1), st.binary(min_size=1, max_size=255), st.none(),
)  # fmt: skip
STEPS = st.lists(
    st.tuples(
        st.integers(0, (1 << 64) - 1),
        st.dictionaries(st.integers(0, 2), st.integers(0, 255), max_size=3),
        st.lists(ACCESSES, max_size=3),
        st.booleans(),
    ),
    min_size=1, max_size=30,
)  # fmt: skip


def on_file(data: bytes) -> Tape:
    with tempfile.TemporaryFile() as file:
        file.write(data)
        file.flush()
        return Tape(file, REGISTERS)


def packed(number: int, value: int) -> tuple[int, bytes]:
    return number, value.to_bytes(REGISTERS[number].bits // 8, "little")


@given(STEPS, st.data())
def test_a_tape_is_read_back_from_any_step(steps: list[Any], draw: st.DataObject) -> None:
    first = [draw.draw(values) for values in VALUES]
    data = pack(4096, [packed(n, v) for n, v in enumerate(first)], ())
    for address, changes, accesses, beyond in steps:
        flags = BEYOND if beyond else 0
        data += pack(address, [packed(n, v) for n, v in changes.items()], accesses, flags)
    tape = on_file(data + data[:7])  # an end that is missing
    assert (tape.base, tape.first, tape.count) == (4096, first, len(steps))
    begin = draw.draw(st.integers(1, len(steps)))
    state = list(tape.state_before(begin))
    read = [(step, list(after)) for step, after in tape.steps(begin)]
    for (step, after), (address, changes, accesses, beyond) in zip(
        read, steps[begin - 1 :], strict=True
    ):
        assert (step.address, step.accesses, step.beyond) == (address, tuple(accesses), beyond)
        assert step.changes == tuple(Change(n, state[n], v) for n, v in changes.items())
        for number, value in changes.items():
            state[number] = value
        assert after == state


def test_a_tape_that_is_full_says_so() -> None:
    tape = on_file(pack(0, (), ()) + pack(8, (), ()) + pack(12, (), (), FULL))
    assert tape.full and tape.count == 1


LOG = """an emulator may say something first
Trace 0: 0x7f0 [00/0000000000401000/00000001/00] call
 PC=0000000000401000 X00=0000000000000001 X01=0000000000000001
PSTATE=60000800 -ZC- EL0t  BTYPE=2
Trace 0: 0x7f1 [00/0000000000401104/00000001/00] quay
 PC=0000000000401104 X00=0000000000000007 X01=0000000000000001
X30=0000000000401010  SP=00000055007ff4a0
PSTATE=60000800 -ZC- EL0t  BTYPE=2
R 55007ff488 0100
Trace 1: 0x7f1 [00/0000000000401104/00000001/00] another thread
 PC=0000000000401104 X00=0000000000000099
Trace 0: 0x7f2 [00/0000000000401108/00000001/00] quay
 PC=0000000000401108 X00=0000000000000007 X01=0000000000000009
X30=0000000000401010  SP=00000055007ff470
PSTATE=80000000 N--- EL0t  BTYPE=0
W 55007ff488 2a00
O 5500800000 ff
Trace 0: 0x7f3 [00/0000000000401010/00000001/00] call
 PC=0000000000401010 X00=0000000000000008 X01=0000000000000009
X30=0000000000401010  SP=00000055007ff4a0
PSTATE=80000000 N--- EL0t  BTYPE=0
Trace 0: 0x7f1 [00/0000000000401104/00000001/00] quay, called once more
"""


def test_the_log_of_an_emulator_becomes_a_tape() -> None:
    state = state_of("aarch64")
    registers = state.plain(64)
    whole = reader_of(registers).feed(LOG.encode())
    pieces = reader_of(registers)
    split = b"".join(pieces.feed(bytes((byte,))) for byte in LOG.encode()) + pieces.finish()
    assert split == whole and pieces.over and pieces.steps == 2
    with tempfile.TemporaryFile() as file:
        file.write(whole)
        file.flush()
        tape = Tape(file, registers)
    names = [register.name for register in registers]
    (one, _), (two, after) = [(step, list(now)) for step, now in tape.steps()]
    assert (tape.first[0], tape.first[names.index("sp")]) == (7, 0x55007FF4A0)
    assert (one.address, one.accesses) == (
        0x401104,
        (Access(False, 0x55007FF488, b"\x01\x00"),),
    )
    assert {names[c.register]: c.after for c in one.changes} == {
        "x1": 9,
        "sp": 0x55007FF470,
        "nzcv": 0x80000000,
    }
    assert two.beyond and [a.stored for a in two.accesses] == [True, True] and after[0] == 8


def reader_of(registers: tuple[Register, ...]) -> LogReader:
    state = state_of("aarch64")
    own = range(0x401100, 0x401200)
    return LogReader(registers, state.logged, own.__contains__, 0x401104, 100)


def test_enough_steps_of_a_log_are_enough() -> None:
    registers = state_of("aarch64").plain(64)
    own = range(0x401100, 0x401200)
    reader = LogReader(registers, state_of("aarch64").logged, own.__contains__, 0x401104, 1)
    data = io.BytesIO(reader.feed(LOG.encode()))
    path = Path(tempfile.mkstemp()[1])
    path.write_bytes(data.getvalue())
    with path.open("rb") as file:
        tape = Tape(file, registers)
    path.unlink()
    assert tape.full and tape.count == 1 and reader.over
