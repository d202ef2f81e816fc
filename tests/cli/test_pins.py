"""Pins of a simulated chip: recorded, measured in cycles, and set beside an instrument's."""

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import document, hot_anvil, refused
from hot_anvil.core.pins.files import read_recording, write_dump
from hot_anvil.core.pins.records import Edge, Recording, Trace, period_of
from hot_anvil.errors import RequestError

CLOCK = """#include <avr/io.h>
int main(void)
{
    __asm__ volatile(
        "sbi 0x04, 0\\n sbi 0x04, 3\\n"        /* outputs */
        "ldi r24, 10\\n 2: dec r24\\n brne 2b\\n"
        "1: sbi 0x05, 0\\n cbi 0x05, 0\\n"      /* 2 cycles each */
        "sbi 0x03, 3\\n"                        /* turns over: 2 */
        "nop\\n rjmp 1b\\n");                   /* 1 and 2 */
    return 0;
}
"""


@pytest.fixture
def clock(tmp_path: Path, need: Callable[..., None]) -> Path:
    need("avr-gcc", "simavr")
    path = tmp_path / "clock.c"
    path.write_text(CLOCK)
    return path


def test_periods_are_exact_and_come_back_from_a_dump(clock: Path, tmp_path: Path) -> None:
    dump = tmp_path / "clock.vcd"
    words: list[str | Path] = [
        "pins",
        clock,
        "--build",
        "avr-gcc -Os -mmcu=atmega328p -DF_CPU=8000000UL",
    ]
    (pin, other) = document(*words, "--cycles", "900", "--dump", dump)["pins"]
    assert (pin["pin"], pin["period"], pin["jitter"], pin["first_period"]) == ("PB0", 9, 0, 9)
    assert pin["high"] == pytest.approx(2 / 9) and pin["frequency_hz"] == pytest.approx(8e6 / 9)
    assert (other["pin"], other["period"], other["high"]) == ("PB3", 18, 0.5)
    beside = document(*words, "--cycles", "900", "--beside", dump, "--pin", "PB0")["pins"]
    assert [row["source"] for row in beside][1] == str(dump)
    assert beside[1]["period"] == pytest.approx(9 / 8e6) and beside[1]["rises"] == pin["rises"]
    text = hot_anvil(*words, "--beside", dump).stdout
    assert "1.13 us" in text and "889 kHz" in text and "22.2 %" in text


UNHANDLED = """#include <avr/io.h>
#include <avr/interrupt.h>
ISR(TIMER9_OVF_vect) { PORTB ^= 1; }
int main(void)
{
    void (*volatile nowhere)(void) = 0;
    DDRB = 1;
    PORTB = 1;
    if (START) nowhere();
    TCCR0B = 1; TIMSK0 = 1; sei();
    for (;;) PINB = 1;
}
"""


def test_a_program_that_starts_again_is_said_to(clock: Path, tmp_path: Path) -> None:
    (tmp_path / "gauge.c").write_text(UNHANDLED)
    build = "avr-gcc -Os -mmcu=atmega328p -DSTART="
    words: list[str | Path] = ["pins", tmp_path / "gauge.c"]
    words += ["--build", f"{build}0", "--build", f"{build}1"]
    rows = document(*words)["pins"]
    assert [row["rises"] for row in rows][1] == 1  # and not again and again
    told = " ".join(hot_anvil(*words).stdout.split())
    assert f"{build}0: interrupt vector 16 was taken and has no handler" in told, told
    assert f"{build}1: it came to its first instruction again" in told, told


def test_what_has_no_pins_is_said(clock: Path, tmp_path: Path) -> None:
    build = ["--build", "avr-gcc -Os -mmcu=atmega328p"]
    assert "Those that do: PB0, PB3" in refused("pins", clock, *build, "--pin", "PD7")
    plain = tmp_path / "sum.c"
    plain.write_text("int sum(int a) { return a + 1; }\n")
    assert "No snippet here is a program" in refused("pins", plain, *build)
    two = [*build, "--build", "avr-gcc -O1 -mmcu=atmega328p"]
    assert "there are 2" in refused("pins", clock, *two, "--dump", tmp_path / "out.vcd")
    assert "no chip is named" in refused("pins", clock, "--build", "avr-gcc -Os -D__AVR_ATmega8__")
    quiet = tmp_path / "quiet.c"
    quiet.write_text("#include <avr/sleep.h>\nint main(void) { sleep_mode(); return 0; }\n")
    said = hot_anvil("pins", quiet, *build)
    assert said.returncode == 1 and "stopped itself for good" in said.stdout


@given(st.lists(st.integers(1, 1000), min_size=2, max_size=40), st.sampled_from([None, 1e-6]))
def test_a_dump_read_back_is_what_was_written(gaps: list[int], tick: float | None) -> None:
    at, edges = 0, []
    for number, gap in enumerate(gaps):
        at += gap
        edges.append(Edge(float(at), 1 - number % 2))
    made = Recording("build", (Trace("PB0", tuple(edges)),), at + 1.0, tick, "cycles")
    (back,) = read_recording("file.vcd", write_dump(made)).traces
    unit = tick or 1e-9
    assert [e.level for e in back.edges] == [e.level for e in edges]
    assert [e.at for e in back.edges] == pytest.approx([e.at * unit for e in edges])
    period, again = period_of(made.traces[0]), period_of(back)
    assert (period is None) == (again is None)
    if period and again:
        assert again.high == pytest.approx(period.high) and period.shortest <= period.middle


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        ("a.csv", "seconds,PB0\n0,1\n", "a column 'time'"),
        ("a.csv", "time,PB0\n0,1\n1,2\n", "a.csv:3: PB0 must be 0 or 1"),
        ("a.csv", "time,PB0\n0,high\n", "a.csv:2: PB0 or its time is no number"),
        ("a.csv", "time,PB0\n2,0\n1,1\n", "goes back in time"),
        ("a.vcd", "$timescale 3 fortnights $end $enddefinitions $end", "no value change dump"),
        ("a.vcd", "$timescale 1 ns $end $enddefinitions $end #0", "no pin"),
    ],
)
def test_recordings_that_cannot_be_read_are_said(name: str, text: str, said: str) -> None:
    with pytest.raises(RequestError, match=said):
        read_recording(name, text)
