"""What is stored comes back as it was, for every kind of field."""

import json
from collections.abc import Mapping
from typing import Literal, NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.code.records import Code, Datum, Function, Instruction
from hot_anvil.core.code.stored import from_plain, to_plain
from hot_anvil.core.codec import as_plain, read


class Quay(NamedTuple):
    name: str
    depth: float | None
    marks: tuple[int, ...]
    kinds: frozenset[str]
    ebb: Literal["low", "high"]
    berths: Mapping[str, tuple[int, str]]
    behind: "Quay | None" = None


names = st.text(max_size=5)


def quays(behind: st.SearchStrategy[Quay | None]) -> st.SearchStrategy[Quay]:
    return st.builds(
        Quay,
        names,
        st.none() | st.floats(allow_nan=False),
        st.lists(st.integers(), max_size=3).map(tuple),
        st.frozensets(names, max_size=3),
        st.sampled_from(["low", "high"]),
        st.dictionaries(names, st.tuples(st.integers(), names), max_size=2),
        behind,
    )


@given(quays(quays(st.none()) | st.none()))
def test_a_record_comes_back_equal_and_of_its_own_types(quay: Quay) -> None:
    back = read(Quay, json.loads(json.dumps(quay, default=as_plain)))
    assert back == quay
    assert type(back.kinds) is frozenset and type(back.marks) is tuple
    assert all(type(berth) is tuple for berth in back.berths.values())
    assert back.behind is None or type(back.behind) is Quay


def test_what_stored_data_does_not_tell_is_refused() -> None:
    with pytest.raises(TypeError, match="does not tell"):
        read(Quay | tuple[int, ...], [])  # type: ignore[arg-type]
    with pytest.raises(TypeError, match="cannot be read"):
        read(complex, 1)
    with pytest.raises(ValueError, match="shorter"):
        read(Quay, ["a field is missing"])


instructions = st.builds(
    Instruction,
    st.sampled_from(["addl", "ret"]),
    st.lists(names, max_size=2).map(tuple),
    st.sampled_from(["ebb.c", "flow.h"]),
    st.integers(0, 9),
    st.integers(0, 9),
    st.booleans(),
    words=st.just(""),  # added where code is shown, never stored
)


@given(
    st.lists(
        st.builds(
            lambda name, items, labels: Function(
                name, ".text", "", tuple(items), labels, (Datum(0, 7, ".word 1", 4),), {".LC0": "5"}
            ),
            names,
            st.lists(instructions, max_size=4),
            st.dictionaries(names, st.integers(0, 4), max_size=2),
        ),
        max_size=3,
    )
)
def test_code_comes_back_as_it_was(functions: list[Function]) -> None:
    code = Code(tuple(functions), ("ebb.c", "flow.h"), "x86")
    back = from_plain(json.loads(json.dumps(to_plain(code), default=as_plain)))
    assert back == code
