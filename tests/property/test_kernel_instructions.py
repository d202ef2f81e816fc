"""Instructions of PTX on the simulated device against whole numbers of Python and NumPy."""

import struct
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from hot_anvil.core.arch.ptx.device.device import Launch, Launched, Shape
from hot_anvil.core.arch.ptx.device.lanes import UnknownInstructionError
from hot_anvil.core.arch.ptx.device.memory import Memory
from hot_anvil.core.arch.ptx.device.schedule import SPREAD, Device
from hot_anvil.core.arch.ptx.module import read_module

HEAD = """.version 8.0
.target sm_80
.address_size 64
"""
FRAME = (
    HEAD
    + """.visible .entry k(.param .u64 k_a, .param .u64 k_b, .param .u64 k_c, .param .u64 k_out)
{{
    .reg .pred %p<4>;
    .reg .b16 %h<4>;
    .reg .b32 %r<9>;
    .reg .f32 %f<9>;
    .reg .f64 %d<9>;
    .reg .b64 %rd<20>;
    .shared .align 8 .b8 own[1024];
    ld.param.u64 %rd1, [k_a];
    ld.param.u64 %rd2, [k_b];
    ld.param.u64 %rd3, [k_c];
    ld.param.u64 %rd4, [k_out];
    mov.u32 %r0, %tid.x;
    mul.wide.u32 %rd5, %r0, 8;
    add.s64 %rd1, %rd1, %rd5;
    add.s64 %rd2, %rd2, %rd5;
    add.s64 %rd3, %rd3, %rd5;
    add.s64 %rd4, %rd4, %rd5;
    ld.global.u64 %rd6, [%rd1];
    ld.global.u64 %rd7, [%rd2];
    ld.global.u64 %rd8, [%rd3];
    cvt.u32.u64 %r1, %rd6;
    cvt.u32.u64 %r2, %rd7;
    cvt.u32.u64 %r3, %rd8;
    mov.b32 %f1, %r1;
    mov.b32 %f2, %r2;
    mov.b32 %f3, %r3;
    mov.u64 %rd9, 0;
    mov.u32 %r4, 0;
    {body}
    st.global.u64 [%rd4], %rd9;
    ret;
}}
"""
)
COUNT = 96
EDGES = [0, 1, 2, 31, 32, 33, 127, 128, 255, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 0x12345678,
         1 << 63, (1 << 64) - 1, 0x8000000080000000]  # fmt: skip
random = np.random.default_rng(11)


def values(seed: int) -> list[int]:
    own = np.random.default_rng(seed)
    drawn = own.integers(0, 1 << 64, COUNT - len(EDGES), dtype=np.uint64).tolist()
    mixed = [*EDGES, *drawn]
    own.shuffle(mixed)
    return [int(v) for v in mixed]


A, B, C = values(1), values(2), values(3)


def launched(
    body: str, a: list[int] = A, b: list[int] = B, c: list[int] = C, threads: int = COUNT
) -> tuple[Launched, list[int]]:
    """Run a body on a thread for each row of values; return what it left in ``%rd9``."""
    module = read_module(FRAME.format(body=body))
    memory = Memory(1)
    at = [
        memory.allocate(name, struct.pack(f"<{len(v)}Q", *v), name == "out").to_bytes(8, "little")
        for name, v in (("a", a), ("b", b), ("c", c), ("out", [0] * COUNT))
    ]
    came = Launch(module, "k").run(
        memory, Shape((1, 1, 1), (threads, 1, 1)), at, Device(processors=1), SPREAD
    )
    return came, list(struct.unpack(f"<{COUNT}Q", memory.contents("out")))


def signed(value: int, bits: int) -> int:
    value &= (1 << bits) - 1
    return value - (1 << bits) if value >> (bits - 1) else value


def quotient(a: int, b: int) -> int:
    return -1 if b == 0 else abs(a) // abs(b) * (1 if (a < 0) == (b < 0) else -1)


def rest(a: int, b: int) -> int:
    return a if b == 0 else a - quotient(a, b) * b


def cut(value: int, position: int, length: int, bits: int, sign: bool) -> int:
    """Return ``bfe`` as the manual's own lines of code have it."""
    position, length, top = position & 255, length & 255, bits - 1
    fill = value >> min(position + length - 1, top) & 1 if length and sign else 0
    made = 0
    for place in range(bits):
        inside = place < length and position + place <= top
        made |= (value >> (position + place) & 1 if inside else fill) << place
    return made


def put(a: int, b: int, position: int, length: int, bits: int) -> int:
    position, length = position & 255, length & 255
    made = b
    for place in range(length):
        if position + place < bits:
            made = made & ~(1 << (position + place)) | (a >> place & 1) << (position + place)
    return made


def chosen(a: int, b: int, code: int) -> int:
    both, made = a | b << 32, 0
    for place in range(4):
        byte = both >> 8 * (code >> 4 * place & 7) & 255
        if code >> 4 * place & 8:
            byte = 255 if byte & 128 else 0
        made |= byte << 8 * place
    return made


S32: Callable[[int], int] = lambda v: signed(v, 32)  # noqa: E731
Model = Callable[[int, int, int], int]
OF_32: dict[str, Model] = {
    "add.s32 %r4, %r1, %r2": lambda a, b, c: a + b,
    "sub.s32 %r4, %r1, %r2": lambda a, b, c: a - b,
    "add.sat.s32 %r4, %r1, %r2": lambda a, b, c: max(min(S32(a) + S32(b), 2**31 - 1), -(2**31)),
    "mul.lo.s32 %r4, %r1, %r2": lambda a, b, c: a * b,
    "mul.hi.s32 %r4, %r1, %r2": lambda a, b, c: S32(a) * S32(b) >> 32,
    "mul.hi.u32 %r4, %r1, %r2": lambda a, b, c: a * b >> 32,
    "mad.lo.s32 %r4, %r1, %r2, %r3": lambda a, b, c: a * b + c,
    "div.s32 %r4, %r1, %r2": lambda a, b, c: quotient(S32(a), S32(b)),
    "div.u32 %r4, %r1, %r2": lambda a, b, c: a // b if b else -1,
    "rem.s32 %r4, %r1, %r2": lambda a, b, c: rest(S32(a), S32(b)),
    "rem.u32 %r4, %r1, %r2": lambda a, b, c: a % b if b else a,
    "min.s32 %r4, %r1, %r2": lambda a, b, c: min(S32(a), S32(b)),
    "max.u32 %r4, %r1, %r2": lambda a, b, c: max(a, b),
    "neg.s32 %r4, %r1": lambda a, b, c: -a,
    "abs.s32 %r4, %r1": lambda a, b, c: abs(S32(a)),
    "not.b32 %r4, %r1": lambda a, b, c: ~a,
    "cnot.b32 %r4, %r1": lambda a, b, c: int(a == 0),
    "shl.b32 %r4, %r1, %r2": lambda a, b, c: a << b if b < 32 else 0,
    "shr.u32 %r4, %r1, %r2": lambda a, b, c: a >> b if b < 32 else 0,
    "shr.s32 %r4, %r1, %r2": lambda a, b, c: S32(a) >> min(b, 31),
    "popc.b32 %r4, %r1": lambda a, b, c: a.bit_count(),
    "clz.b32 %r4, %r1": lambda a, b, c: 32 - a.bit_length(),
    "brev.b32 %r4, %r1": lambda a, b, c: int(f"{a:032b}"[::-1], 2),
    "bfe.u32 %r4, %r1, %r2, %r3": lambda a, b, c: cut(a, b, c, 32, False),
    "bfe.s32 %r4, %r1, %r2, %r3": lambda a, b, c: cut(a, b, c, 32, True),
    "bfi.b32 %r4, %r1, %r2, %r3, 9": lambda a, b, c: put(a, b, c, 9, 32),
    "prmt.b32 %r4, %r1, %r2, %r3": chosen,
    "shf.l.wrap.b32 %r4, %r1, %r2, %r3": lambda a, b, c: ((b << 32 | a) << (c & 31)) >> 32,
    "shf.r.clamp.b32 %r4, %r1, %r2, %r3": lambda a, b, c: (b << 32 | a) >> min(c, 32),
    "lop3.b32 %r4, %r1, %r2, %r3, 0xE8": lambda a, b, c: a & b | a & c | b & c,
    "sad.u32 %r4, %r1, %r2, %r3": lambda a, b, c: c + abs(a - b),
    "slct.s32.s32 %r4, %r1, %r2, %r3": lambda a, b, c: a if S32(c) >= 0 else b,
    "setp.lt.s32 %p1, %r1, %r2; selp.b32 %r4, %r1, %r3, %p1": lambda a, b, c: (
        a if S32(a) < S32(b) else c
    ),
    "setp.hi.u32 %p1, %r1, %r2; @!%p1 mov.u32 %r4, 7": lambda a, b, c: 0 if a > b else 7,
    "setp.eq.s32 %p1, %r1, %r2; setp.lt.and.u32 %p2, %r1, %r3, %p1; selp.b32 %r4, 1, 0, %p2": (
        lambda a, b, c: int(a == b and a < c)
    ),
    "set.gt.u32.s32 %r4, %r1, %r2": lambda a, b, c: -int(S32(a) > S32(b)),
    "cvt.s32.s8 %r4, %r1": lambda a, b, c: signed(a, 8),
    "cvt.u32.u16 %r4, %r1": lambda a, b, c: a & 0xFFFF,
    "cvt.sat.u8.s32 %r4, %r1": lambda a, b, c: max(min(S32(a), 255), 0),
}
OF_64: dict[str, Model] = {
    "add.s64 %rd9, %rd6, %rd7": lambda a, b, c: a + b,
    "mul.lo.s64 %rd9, %rd6, %rd7": lambda a, b, c: a * b,
    "mul.hi.u64 %rd9, %rd6, %rd7": lambda a, b, c: a * b >> 64,
    "mul.hi.s64 %rd9, %rd6, %rd7": lambda a, b, c: signed(a, 64) * signed(b, 64) >> 64,
    "mul.wide.s32 %rd9, %r1, %r2": lambda a, b, c: signed(a, 32) * signed(b, 32),
    "mad.wide.u32 %rd9, %r1, %r2, %rd8": lambda a, b, c: (a % 2**32) * (b % 2**32) + c,
    "div.s64 %rd9, %rd6, %rd7": lambda a, b, c: quotient(signed(a, 64), signed(b, 64)),
    "rem.u64 %rd9, %rd6, %rd7": lambda a, b, c: a % b if b else a,
    "shr.s64 %rd9, %rd6, %r2": lambda a, b, c: signed(a, 64) >> min(b % 2**32, 63),
    "shl.b64 %rd9, %rd6, 40": lambda a, b, c: a << 40,
    "clz.b64 %r4, %rd6; cvt.u64.u32 %rd9, %r4": lambda a, b, c: 64 - a.bit_length(),
    "brev.b64 %rd9, %rd6": lambda a, b, c: int(f"{a:064b}"[::-1], 2),
    "bfe.s64 %rd9, %rd6, %r2, %r3": lambda a, b, c: cut(a, b, c, 64, True),
    "bfi.b64 %rd9, %rd6, %rd7, %r3, 21": lambda a, b, c: put(a, b, c, 21, 64),
    "mov.b64 %rd9, {%r1, %r3}": lambda a, b, c: a % 2**32 | (c % 2**32) << 32,
    "mov.b64 {%r5, %r6}, %rd6; mov.b64 %rd9, {%r6, %r5}": lambda a, b, c: (
        a >> 32 | (a % 2**32) << 32
    ),
    "cvt.s64.s32 %rd9, %r1": lambda a, b, c: signed(a, 32),
    "min.s64 %rd9, %rd6, %rd7": lambda a, b, c: min(signed(a, 64), signed(b, 64)),
}


@pytest.mark.parametrize("text", OF_32)
def test_whole_numbers_of_32_bits(text: str) -> None:
    came, out = launched(f"{text}; cvt.u64.u32 %rd9, %r4;")
    assert not came.fault
    model, low = OF_32[text], (1 << 32) - 1
    expected = [model(a & low, b & low, c & low) & low for a, b, c in zip(A, B, C, strict=True)]
    assert out == expected


@pytest.mark.parametrize("text", OF_64)
def test_whole_numbers_of_64_bits(text: str) -> None:
    came, out = launched(f"{text};")
    assert not came.fault
    whole = (1 << 64) - 1
    assert out == [OF_64[text](a, b, c) & whole for a, b, c in zip(A, B, C, strict=True)]


def bits_of(value: float) -> int:
    return int(struct.unpack("<I", struct.pack("<f", value))[0])


def float_of(bits: int) -> float:
    return float(struct.unpack("<f", struct.pack("<I", bits & 0xFFFFFFFF))[0])


REALS = [0.0, -0.0, 1.0, -1.5, 0.1, 3e38, -3e38, 1e-38, 1e-45, float("inf"), float("-inf"),
         float("nan"), 2147483648.0, 255.5, -0.5, 2.5]  # fmt: skip
FLOATS = [bits_of(r) for r in REALS for _ in range(6)]
OTHERS = [bits_of(r) for _ in range(6) for r in REALS]
F = np.array([float_of(v) for v in FLOATS], np.float32)
G = np.array([float_of(v) for v in OTHERS], np.float32)


def clamped(value: float, low: int, high: int) -> int:
    """Return a float towards zero, with NaN as 0 and what is too far at the end."""
    return 0 if value != value else int(max(min(value, high), low))


OF_FLOATS: dict[str, Any] = {
    "add.f32 %f4, %f1, %f2": lambda: F + G,
    "sub.f32 %f4, %f1, %f2": lambda: F - G,
    "mul.rn.f32 %f4, %f1, %f2": lambda: F * G,
    "div.rn.f32 %f4, %f1, %f2": lambda: F / G,
    "min.f32 %f4, %f1, %f2": lambda: np.fmin(F, G),
    "max.f32 %f4, %f1, %f2": lambda: np.fmax(F, G),
    "neg.f32 %f4, %f1": lambda: -F,
    "abs.f32 %f4, %f1": lambda: np.abs(F),
    "sqrt.rn.f32 %f4, %f1": lambda: np.sqrt(F),
    "rcp.rn.f32 %f4, %f1": lambda: np.float32(1) / F,
    "fma.rn.f32 %f4, %f1, %f2, %f1": lambda: (F.astype(np.longdouble) * G + F).astype(np.float32),
    "add.sat.f32 %f4, %f1, %f2": lambda: np.clip(np.nan_to_num(F + G, nan=0.0), 0, 1),
    "copysign.f32 %f4, %f1, %f2": lambda: np.copysign(G, F),
    "cvt.rni.f32.f32 %f4, %f1": lambda: np.rint(F),
    "cvt.f64.f32 %d1, %f1; add.f64 %d2, %d1, %d1; cvt.rn.f32.f64 %f4, %d2": lambda: F + F,
    "mov.f32 %f4, 0f3F800000": lambda: np.ones_like(F),
}
TO_WHOLE: dict[str, Callable[[float, float], int]] = {
    "cvt.rzi.s32.f32 %r4, %f1": lambda a, b: clamped(a, -(2**31), 2**31 - 1),
    "cvt.rzi.u32.f32 %r4, %f1": lambda a, b: clamped(a, 0, 2**32 - 1),
    "cvt.rni.s32.f32 %r4, %f1": lambda a, b: clamped(
        float(np.rint(np.float32(a))), -(2**31), 2**31 - 1
    ),
    "setp.lt.f32 %p1, %f1, %f2; selp.b32 %r4, 1, 0, %p1": lambda a, b: int(a < b),
    "setp.ne.f32 %p1, %f1, %f2; selp.b32 %r4, 1, 0, %p1": lambda a, b: int(a < b or a > b),
    "setp.neu.f32 %p1, %f1, %f2; selp.b32 %r4, 1, 0, %p1": lambda a, b: int(a != b),
    "setp.gtu.f32 %p1, %f1, %f2; selp.b32 %r4, 1, 0, %p1": lambda a, b: int(not a <= b),
    "setp.nan.f32 %p1, %f1, %f2; selp.b32 %r4, 1, 0, %p1": lambda a, b: int(a != a or b != b),
}


@pytest.mark.parametrize("text", OF_FLOATS)
def test_floats(text: str) -> None:
    _, out = launched(f"{text}; mov.b32 %r4, %f4; cvt.u64.u32 %rd9, %r4;", FLOATS, OTHERS)
    found = np.array([float_of(v) for v in out], np.float32)
    with np.errstate(all="ignore"):
        np.testing.assert_array_equal(found, OF_FLOATS[text]().astype(np.float32))


@pytest.mark.parametrize("text", TO_WHOLE)
def test_floats_to_whole_numbers(text: str) -> None:
    _, out = launched(f"{text}; cvt.u64.u32 %rd9, %r4;", FLOATS, OTHERS)
    pairs = zip(F.tolist(), G.tolist(), strict=True)
    assert out == [TO_WHOLE[text](a, b) & 0xFFFFFFFF for a, b in pairs]


LANE = "and.b32 %r5, %r0, 31;"
TOGETHER: dict[str, Callable[[int], int]] = {
    "shfl.sync.down.b32 %r4, %r0, 4, 31, -1": lambda t: t + 4 if t % 32 < 28 else t,
    "shfl.sync.up.b32 %r4, %r0, 3, 0, -1": lambda t: t - 3 if t % 32 >= 3 else t,
    "shfl.sync.bfly.b32 %r4, %r0, 5, 31, -1": lambda t: t ^ 5,
    "shfl.sync.idx.b32 %r4, %r0, 9, 31, -1": lambda t: t // 32 * 32 + 9,
    "shfl.sync.idx.b32 %r4, %r0, 1, 0x181f, -1": lambda t: t // 8 * 8 + 1,  # parts of 8 lanes
    "shfl.sync.down.b32 %r4|%p1, %r0, 4, 31, -1; selp.b32 %r4, 1, 0, %p1": lambda t: int(
        t % 32 < 28
    ),
    f"{LANE} setp.lt.u32 %p1, %r5, 3; vote.sync.ballot.b32 %r4, %p1, -1": lambda t: 7,
    "setp.lt.u32 %p1, %r0, 40; vote.sync.all.pred %p2, %p1, -1; selp.b32 %r4, 1, 0, %p2": (
        lambda t: int(t < 32)
    ),
    "setp.lt.u32 %p1, %r0, 40; vote.sync.any.pred %p2, %p1, -1; selp.b32 %r4, 1, 0, %p2": (
        lambda t: int(t < 64)
    ),
    f"{LANE} and.b32 %r6, %r5, 1; match.any.sync.b32 %r4, %r6, -1": lambda t: (
        0xAAAAAAAA if t % 2 else 0x55555555
    ),
    "mov.u32 %r4, %laneid": lambda t: t % 32,
    "mov.u32 %r4, %lanemask_lt": lambda t: (1 << t % 32) - 1,
    "mov.u32 %r4, %ntid.x": lambda t: COUNT,
    "mov.u32 %r4, %warpid": lambda t: t // 32,
}


@pytest.mark.parametrize("text", TOGETHER)
def test_lanes_of_a_warp_hand_values_on(text: str) -> None:
    _, out = launched(f"{text}; cvt.u64.u32 %rd9, %r4;")
    assert out == [TOGETHER[text](thread) for thread in range(COUNT)]


ATOMICS: dict[str, tuple[int, Callable[[int, int], int]]] = {
    "add.u32": (5, lambda old, t: old + t),
    "min.s32": (100, lambda old, t: min(old, t)),
    "max.u32": (3, lambda old, t: max(old, t)),
    "exch.b32": (3, lambda old, t: t),
    "or.b32": (64, lambda old, t: old | t),
    "xor.b32": (64, lambda old, t: old ^ t),
    "inc.u32": (7, lambda old, t: 0 if old >= t else old + 1),
    "dec.u32": (7, lambda old, t: t if old == 0 or old > t else old - 1),
}


@pytest.mark.parametrize("name", ATOMICS)
def test_atomic_operations_give_each_thread_what_it_found(name: str) -> None:
    start, step = ATOMICS[name]
    body = f"""mov.u32 %r5, {start};
    setp.eq.u32 %p1, %r0, 0; @%p1 st.shared.u32 [own+8], %r5; bar.sync 0;
    atom.shared.{name} %r4, [own+8], %r0; cvt.u64.u32 %rd9, %r4;"""
    came, out = launched(body)
    assert not came.races
    expected, now = [], start
    for thread in range(COUNT):
        expected.append(now)
        now = step(now, thread) & 0xFFFFFFFF
    assert out == expected


@pytest.mark.parametrize(
    ("body", "kind", "buffer"),
    [
        ("trap;", "trap", ""),
        ("ld.global.u64 %rd9, [%rd9];", "null", "a"),
        ("ld.global.u64 %rd9, [%rd1+4];", "misaligned", "a"),
        ("st.global.u64 [%rd1], %rd9;", "read-only", "a"),
        ("ld.global.u64 %rd9, [%rd1+768];", "outside", "a"),
        ("ld.global.u64 %rd9, [%rd1+-8];", "outside", "a"),
        ("ld.shared.u32 %r4, [own+1024];", "outside", "shared memory"),
    ],
)
def test_what_is_not_allowed_ends_the_launch(body: str, kind: str, buffer: str) -> None:
    came, _ = launched(body)
    assert came.fault
    assert (came.fault.kind, came.fault.buffer, came.fault.thread) == (kind, buffer, 0)


def test_lanes_that_write_one_place_race_only_with_other_values() -> None:
    assert launched("st.shared.u32 [own], %r0;")[0].races
    assert not launched("mov.u32 %r5, 4; st.shared.u32 [own], %r5;", threads=32)[0].races


def test_a_barrier_parts_accesses() -> None:
    """A thread reads what one of the next warp wrote: a race without the barrier alone."""
    body = """mul.lo.u32 %r5, %r0, 4; add.u32 %r6, %r5, 128;
    mov.u32 %r7, own; add.u32 %r5, %r5, %r7; add.u32 %r6, %r6, %r7;
    st.shared.u32 [%r5], %r0; {} ld.shared.u32 %r4, [%r6]; cvt.u64.u32 %rd9, %r4;"""
    assert launched(body.format("bar.sync 0;"), threads=64)[0].races == ()
    (race,) = launched(body.format(""), threads=64)[0].races
    assert (race.thread, race.other_thread) == (0, 32)


@pytest.mark.parametrize(
    "body",
    [
        "mov.u64 %rd9, %clock64;",
        "addc.u32 %r4, %r1, %r2;",
        "tex.2d.v4.f32.s32 {%f1,%f2,%f3,%f4}, [own, {%r1,%r2}];",
    ],
)
def test_what_is_not_known_is_said(body: str) -> None:
    with pytest.raises(UnknownInstructionError):
        launched(body)
