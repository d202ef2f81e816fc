"""Kernels on the simulated device: what two compilers made of them against NumPy, and counts."""

import math
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from conftest import lacking
from hot_anvil.api import Anvil, open_bench
from hot_anvil.core.arch.ptx.device.device import Launch, Launched, Shape
from hot_anvil.core.arch.ptx.device.memory import Memory
from hot_anvil.core.arch.ptx.device.schedule import PACKED, SPREAD, Device, Scheduler
from hot_anvil.core.arch.ptx.module import Module, read_module

KERNEL_SOURCE = Path(__file__).with_name("kernels.cu")
COMPILERS = ("clang-16@nvptx64", "nvcc")
BENCH = """[flags]
own = {{ nvcc = "-arch=sm_80", clang = "-O2 --cuda-gpu-arch=sm_80" }}
[grid]
toolchains = ["{compiler}"]
[[snippet]]
name = "levels"
sources = ["kernels.cu"]
launch = {{ grid = 1, block = 1 }}
"""
Array = np.ndarray[Any, Any]
random = np.random.default_rng(7)
N = 1000
LEVELS = random.integers(-999, 999, N).astype(np.int32)
OTHERS = random.integers(1, 99, N).astype(np.int32)
A, B = (random.standard_normal(N).astype(np.float32) for _ in "ab")
GRID = random.standard_normal((64, 64)).astype(np.float32)
FRAMES = random.integers(0, 256, (64, 9)).astype(np.uint8)
BYTES = random.integers(0, 256, 5000).astype(np.uint8)


def crc_of(frame: Sequence[int]) -> int:
    c = 0xFFFF
    for byte in frame:
        c ^= int(byte) << 8
        for _ in range(8):
            c = (c << 1 ^ 0x1021 if c & 0x8000 else c << 1) & 0xFFFF
    return c


def parted(v: int) -> int:
    if v & 1:
        while v > 3:
            v = (v - 1) // 3
        return v
    v = int(v / 2)
    return v + 7 if math.fmod(v, 3) == 0 else v


def divided(a: int, b: int) -> int:
    return int(a / b) + int(math.fmod(a, b)) * 1000 + min(a, b)


def smoothed() -> Array:
    wide = np.concatenate([[0], A, [0]]).astype(np.float32)
    return np.asarray(0.25 * wide[:-2] + 0.5 * wide[1:-1] + 0.25 * wide[2:], np.float32)


def zeros(count: int, kind: Any = np.int32) -> Array:
    return np.zeros(count, kind)


WIDE = LEVELS.astype(np.int64) * OTHERS >> 3
# Kernel -> grid, block, what it is given (numbers and buffers), buffer -> what NumPy makes of it.
KERNELS: dict[str, tuple[Any, Any, list[Any], dict[int, Any]]] = {
    "added": ((4,), (256,), [A, B, zeros(N, np.float32), N], {2: A + B}),
    "summed": ((8,), (128,), [LEVELS, zeros(8), N],
               {1: np.add.reduceat(LEVELS, np.arange(0, N, 128))}),
    "multiplied": ((4, 4), (16, 16), [GRID, GRID, zeros(4096, np.float32), 64],
                   {2: (GRID @ GRID).ravel()}),
    "running": ((1,), (256,), [LEVELS[:256], zeros(256), 256], {1: np.cumsum(LEVELS[:256])}),
    "counted": ((4,), (256,), [BYTES, zeros(256, np.uint32), 5000],
                {1: np.bincount(BYTES, minlength=256)}),
    "of_warps": ((4,), (256,), [A, zeros(32, np.float32), N],
                 {1: np.pad(A, (0, 24)).reshape(32, 32).sum(1)}),
    "places": ((16,), (64,), [zeros(16, np.uint32)], {0: np.arange(16) % 4}),
    "parted": ((4,), (256,), [LEVELS, zeros(N), N], {1: [parted(int(v)) for v in LEVELS]}),
    "crc": ((1,), (64,), [FRAMES.ravel(), zeros(64, np.uint32), 64],
            {1: [crc_of(frame) for frame in FRAMES]}),
    "smoothed": ((8,), (128,), [A, zeros(N, np.float32), N], {1: smoothed()}),
    "turned": ((2, 2), (32, 32), [GRID, zeros(4096, np.float32), 64], {1: GRID.T.ravel()}),
    "turned_padded": ((2, 2), (32, 32), [GRID, zeros(4096, np.float32), 64], {1: GRID.T.ravel()}),
    "divided": ((4,), (256,), [LEVELS, OTHERS, zeros(N), zeros(N, np.int64), N],
                {2: [divided(int(a), int(b)) for a, b in zip(LEVELS, OTHERS, strict=True)],
                 3: WIDE}),
}  # fmt: skip
TOLERANCE = {"multiplied": 1e-4, "of_warps": 1e-4, "smoothed": 1e-6}  # sums in another order


def three(numbers: Sequence[int]) -> tuple[int, int, int]:
    x, y, z = (*numbers, 1, 1)[:3]
    return x, y, z


@pytest.fixture(scope="session", params=COMPILERS)
def module(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Module:
    """What a compiler makes of the kernels."""
    needed = "nvcc" if request.param == "nvcc" else "clang-16"
    if not shutil.which(needed):
        if needed == "nvcc":  # no Debian package of the free sections has it
            pytest.skip("nvcc is not here")
        lacking(needed)
    folder: Path = tmp_path_factory.mktemp("kernels")
    shutil.copy(KERNEL_SOURCE, folder)
    (folder / "anvil.toml").write_text(BENCH.format(compiler=request.param))
    anvil: Anvil = open_bench(folder)
    (built,) = anvil.compile()
    assert built.status == "compiled", built.why
    text = anvil.workspace.store.artefact(built.units[0].artefact).text.read_text()
    return read_module(text, str(folder))


def launched(
    module: Module, name: str, scheduler: Scheduler = SPREAD, device: Device = Device(),  # noqa: B008
    given: Sequence[Any] | None = None, shape: Shape | None = None,
) -> tuple[Launched, Callable[[int], Array]]:  # fmt: skip
    """Launch a kernel; return what came, and what gives a buffer's values."""
    grid, block, values, _ = KERNELS.get(name, ((1,), (128,), [LEVELS[:128], zeros(128), 128], {}))
    values = list(given or values)
    memory = Memory(device.processors)
    parameters = [
        memory.allocate(f"buffer {n}", v.tobytes(), True).to_bytes(8, "little")
        if isinstance(v, np.ndarray) else int(v).to_bytes(4, "little", signed=True)
        for n, v in enumerate(values)
    ]  # fmt: skip
    own = shape or Shape(three(grid), three(block))
    came = Launch(module, name).run(memory, own, parameters, device, scheduler)

    def buffer(number: int) -> Array:
        return np.frombuffer(memory.contents(f"buffer {number}"), values[number].dtype)

    return came, buffer


@pytest.mark.parametrize("name", KERNELS)
def test_results_are_numpys(module: Module, name: str) -> None:
    came, buffer = launched(module, name)
    assert not came.fault and not came.hung and not came.races
    for number, expected in KERNELS[name][3].items():
        if name in TOLERANCE:
            np.testing.assert_allclose(buffer(number), expected, atol=TOLERANCE[name])
        else:
            np.testing.assert_array_equal(buffer(number), expected)


def line_of(mark: str) -> int:
    lines = (KERNEL_SOURCE).read_text().splitlines()
    return next(number for number, line in enumerate(lines, 1) if mark in line)


def test_a_race_is_found_at_its_line(module: Module) -> None:
    came, _ = launched(module, "racy")
    items = module.kernels["racy"].instructions
    assert {items[race.place].line for race in came.races} == {line_of("other warps'")}
    assert all(race.thread // 32 != race.other_thread // 32 for race in came.races)
    one_warp, _ = launched(module, "racy", shape=Shape((1, 1, 1), (32, 1, 1)))
    assert not one_warp.races


def test_an_access_outside_a_buffer_ends_the_launch_at_its_line(module: Module) -> None:
    came, _ = launched(module, "beyond", given=[LEVELS[:128], zeros(128), 128])
    assert came.fault
    assert came.fault[:1] == ("outside",)
    assert (came.fault.thread, came.fault.buffer, came.fault.offset) == (127, "buffer 0", 512)
    assert module.kernels["beyond"].instructions[came.fault.place].line == line_of("one too far")


def test_banks_and_sectors_follow_from_addresses(module: Module) -> None:
    """A column of 32 words lies in one bank: 31 further rounds for each of 32 warps of 4 blocks."""
    assert sum(launched(module, "turned")[0].counts.conflicts.values()) == 31 * 32 * 4
    assert not launched(module, "turned_padded")[0].counts.conflicts.total()
    side_by_side = launched(module, "added")[0].counts
    assert side_by_side.sectors.total() == side_by_side.least.total() == 3 * N * 4 // 32
    strided = launched(module, "strided", given=[zeros(1024), zeros(128), 1024])[0].counts
    loads = max(strided.sectors.values())  # of the loads: a sector for each thread
    assert (loads, min(strided.sectors.values())) == (128, 128 * 4 // 32)


def test_threads_that_part_are_counted(module: Module) -> None:
    uniform = [np.full(N, 6, np.int32), zeros(N), N]
    rest = launched(module, "parted", given=uniform)[0].counts.diverged.total()
    assert rest <= 1  # the last warp alone, at the end of the levels
    assert launched(module, "parted")[0].counts.diverged.total() > 32


@pytest.mark.parametrize("scheduler", [SPREAD, PACKED])
def test_the_map_is_what_the_kernel_reads_itself(module: Module, scheduler: Scheduler) -> None:
    shape = Shape((40, 1, 1), (1024, 1, 1))  # two of which fit on a multiprocessor
    came, buffer = launched(
        module, "places", scheduler, Device(processors=3), [zeros(40, np.uint32)], shape
    )
    assert [one.processor for one in came.placements] == list(buffer(0))
    first = {SPREAD: [0, 1, 2, 0, 1, 2], PACKED: [0, 0, 1, 1, 2, 2]}
    assert list(buffer(0))[:6] == first[scheduler]
    for one in came.placements:  # no place has two blocks at once
        others = [
            p for p in came.placements
            if p.processor == one.processor and p.start < one.end and one.start < p.end
        ]  # fmt: skip
        assert len(others) <= 2


def test_an_endless_kernel_is_ended(module: Module, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("hot_anvil.core.arch.ptx.device.device.MOST_INSTRUCTIONS", 500)
    assert launched(module, "multiplied")[0].hung
