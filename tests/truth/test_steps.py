"""Stepping through calls: the last values told are those left, counts are the emulator's own."""

import re
from collections import Counter
from collections.abc import Callable, Mapping
from shutil import which

import pytest

from hot_anvil.api import Anvil, open_bench
from hot_anvil.core.trace.records import Stepped
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.execute.emulation import board_for
from hot_anvil.system.measure.chip_costs import chip_places
from hot_anvil.system.measure.counting import count_places, find_emulator

SOURCE = """#include <stdint.h>
struct tide { int16_t high; int16_t low; int32_t sums[2]; };
int32_t passes;
void clamp(const int16_t *levels, int16_t *kept, int16_t n, int16_t low, int16_t high)
{
    for (int16_t i = 0; i < n; i++) {
        int16_t level = levels[i];
        if (level < low)
            level = low;
        else if (level > high)
            level = high;
        kept[i] = level;
    }
    passes += n;
}
static __attribute__((noinline)) int32_t rises(const int16_t *levels, int16_t n)
{
    if (n < 2)
        return 0;
    return (levels[1] > levels[0]) + rises(levels + 1, n - 1);
}
int32_t counted(const int16_t *levels, int16_t n, struct tide *seen)
{
    for (int16_t i = 0; i < n; i++) {
        if (levels[i] > seen->high)
            seen->high = levels[i];
        if (levels[i] < seen->low)
            seen->low = levels[i];
        seen->sums[i & 1] += levels[i];
    }
    return rises(levels, n);
}
uint16_t crc(const uint8_t *frame, int16_t n)
{
    uint16_t sum = 0xffff;
    for (int16_t i = 0; i < n; i++) {
        sum ^= (uint16_t)(frame[i] << 8);
        for (int8_t bit = 0; bit < 8; bit++)
            sum = sum & 0x8000 ? (uint16_t)(sum << 1 ^ 0x1021) : (uint16_t)(sum << 1);
    }
    return sum;
}
"""
INPUTS = {
    "clamp": 'levels = { fill = "uniform(-500, 500)", count = 9 }\n'
    'kept = { fill = "zeros", count = 9 }\nn = 9\nlow = -200\nhigh = 200',
    "counted": 'levels = { fill = "uniform(-500, 500)", count = 9 }\nn = 9\n'
    'seen = { fill = "zeros", count = 1 }',
    "crc": 'frame = { fill = "uniform(0, 255)", count = 9 }\nn = 9',
}
BUILDS = {
    "x86-64": "gcc -O0",
    "x86-64 optimised": "gcc -O1",
    "AArch64": "aarch64-linux-gnu-gcc -O1",
    "RISC-V": "riscv64-linux-gnu-gcc -O1",
    "ARM": "arm-linux-gnueabihf-gcc -O1",
    "i386": "i686-linux-gnu-gcc -O1",
    "Cortex-M": "arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -O1",
    "AVR": "avr-gcc -mmcu=atmega328p -O1",
    "MSP430": "clang-16@msp430 -O1",
}


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Anvil:
    """A bench with three entries for eight kinds of machines, those that are here."""
    folder = tmp_path_factory.mktemp("steps")
    (folder / "quay.c").write_text(SOURCE)
    (folder / "anvil.toml").write_text(
        "\n".join(
            f'[[snippet]]\nname = "{name}"\nsources = ["quay.c"]\nentries = ["{name}"]\n'
            f"[snippet.inputs]\n{values}"
            for name, values in INPUTS.items()
        )
    )
    here = (build for build in BUILDS.values() if which(re.split("[ @]", build)[0]))
    return open_bench(folder, list(here))


def executed(bench: Anvil, stepped: Stepped) -> Mapping[tuple[str, int], int]:
    """Return the emulator's own counts of the call, by source line."""
    workspace = bench.workspace
    call = stepped.path, stepped.number, stepped.values
    with workspace.scope.entered():
        if stepped.by.endswith(("simavr", "simulator")):
            places = chip_places(*call).times
        else:
            host = host_toolchain(workspace.found.toolchains)
            target = workspace.toolchain(workspace.build(stepped.build)).target
            emulator = find_emulator(host, target, workspace.store, bool(board_for(stepped.path)))
            places = count_places(emulator, *call)
    out: Counter[tuple[str, int]] = Counter()
    for address, times in places.items():
        place = stepped.map.at(address)
        if place:
            out[place.file, place.line] += times
    return out


@pytest.mark.parametrize("target", BUILDS)
@pytest.mark.parametrize("entry", INPUTS)
def test_the_last_values_and_counts_are_the_calls_own(
    bench: Anvil, need: Callable[..., None], target: str, entry: str
) -> None:
    need(re.split("[ @]", BUILDS[target])[0], "qemu-x86_64")
    (stepped,) = bench.step([BUILDS[target]], [entry])
    walk = stepped.walk()
    lines = Counter((m.place.file, m.place.line) for m in stepped.moments(walk))
    assert lines == executed(bench, stepped)
    assert stepped.ending == "returned" and stepped.result and not stepped.nameless
    left = dict(stepped.result.buffers) | {v.name: d for v, d in stepped.result.variables}
    regions = {region.name: region for region in walk.regions.named}
    assert left or entry == "crc"
    for name, data in left.items():
        assert walk.regions.memory.read(regions[name].low, len(data)) == data, name
    if entry == "crc":
        last = [s.after for m in stepped.moments() for s in m.settings if s.variable == "sum"][-1]
        assert last == stepped.returned
