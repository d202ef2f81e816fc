"""Do two outputs agree? Against a slow rule in exact arithmetic, and on what must not matter."""

from fractions import Fraction

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import VOID, Member, Type
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.records import Tolerance
from hot_anvil.core.inputs.input_sets import Argument, InputSet
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.verify.agreement import first_difference

FLOAT = Type("float", 4, "float", align=4)
HEIGHTS = Parameter("heights", Type("pointer", 8, "float *", to=FLOAT, align=8))
SIGNATURE = Signature("f", "f", VOID, (HEIGHTS,), "gauge.c", 1)
floats = st.floats(width=32) | st.sampled_from([0.0, -0.0, 1.0, 1.0000001, 1e-45, 3e38])


def agree(a: list[float], b: list[float], tolerance: Tolerance) -> tuple[bool, bool]:
    """Return (do they agree?, is an error told?)."""
    left, right = (np.array(values, dtype="f4").tobytes() for values in (a, b))
    inputs = InputSet(InputSpec({}), (Argument("heights", "buffer", left, 4, True),))
    outputs = [Output(b"", (("heights", data),)) for data in (left, right)]
    said, error = first_difference(SIGNATURE, outputs[0], SIGNATURE, outputs[1], inputs, tolerance)
    return not said, error is not None


def tolerated(a: float, b: float, tolerance: Tolerance) -> bool:
    """Decide as the docs say, in exact arithmetic."""
    if a == b or (np.isnan(a) and np.isnan(b)):
        return True
    if not (np.isfinite(a) and np.isfinite(b)):
        return False
    off, larger = abs(Fraction(a) - Fraction(b)), max(abs(a), abs(b))
    below_largest = np.nextafter(np.finfo("f4").max, np.float32(0))  # as far from its neighbours
    spacing = Fraction(float(np.spacing(min(np.float32(larger), below_largest))))
    return (
        off <= Fraction(tolerance.ulp) * spacing
        or off <= Fraction(tolerance.relative) * Fraction(larger)
        or off <= Fraction(tolerance.absolute)
    )


def test_nothing_else_agrees_with_the_largest_number() -> None:
    largest = float(np.finfo("f4").max)
    assert not agree([largest], [0.0], Tolerance())[0]
    assert not agree([largest], [largest / 2], Tolerance(ulp=4))[0]


@given(
    st.lists(st.tuples(floats, floats) | floats.map(lambda x: (x, x)), min_size=1, max_size=6),
    st.sampled_from([Tolerance(), Tolerance(ulp=1), Tolerance(ulp=4), Tolerance(absolute=0.5)]),
)
def test_floats_agree_as_exact_arithmetic_decides(
    pairs: list[tuple[float, float]], tolerance: Tolerance
) -> None:
    a, b = [p[0] for p in pairs], [p[1] for p in pairs]
    same, told = agree(a, b, tolerance)
    assert same == all(tolerated(x, y, tolerance) for x, y in pairs)
    assert told == any(x != y and not (np.isnan(x) and np.isnan(y)) for x, y in pairs)
    assert agree(b, a, tolerance)[0] == same


@given(
    st.lists(st.tuples(st.integers(0, 255), st.integers(-9, 9)), max_size=8), st.binary(min_size=8)
)
def test_padding_does_not_count_and_every_member_does(
    rows: list[tuple[int, int]], noise: bytes
) -> None:
    level = Type("int", 4, "int32_t", align=4)
    gauge = Type(
        "struct", 8, "struct gauge", align=4,
        members=(Member("berth", 0, Type("uint", 1, "uint8_t")), Member("level", 4, level)),
    )  # fmt: skip
    pointer = Parameter("gauges", Type("pointer", 8, "struct gauge *", to=gauge, align=8))
    signature = Signature("f", "f", VOID, (pointer,), "gauge.c", 1)

    def laid_out(fill: bytes, change: int = -1) -> Output:
        data = b"".join(
            bytes([berth]) + fill + (height + (k == change)).to_bytes(4, "little", signed=True)
            for k, (berth, height) in enumerate(rows)
        )
        return Output(b"", (("gauges", data),))

    inputs = InputSet(InputSpec({}), (Argument("gauges", "buffer", b"", 4, True),))
    one, other = laid_out(noise[:3]), laid_out(noise[4:7])
    assert first_difference(signature, one, signature, other, inputs)[0] == ""
    for k in range(len(rows)):
        said, _ = first_difference(signature, one, signature, laid_out(noise[:3], k), inputs)
        assert said.startswith(f"gauges[{k}].level is ")
