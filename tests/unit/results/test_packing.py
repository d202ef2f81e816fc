"""Records as plain data that tells by itself what it is."""

import json
import math
from typing import Any, NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.measure.summary import RatioVerdict
from hot_anvil.core.results.packing import pack, unpack
from hot_anvil.errors import AnvilError, MissingError

scalars = st.none() | st.booleans() | st.integers() | st.floats() | st.text() | st.binary()
verdicts = st.builds(
    RatioVerdict, st.floats(), st.floats(), st.floats(), st.sampled_from(["tied", "slower"])
)
keys = st.text() | st.tuples(st.text(), st.text())
values = st.recursive(
    scalars | verdicts,
    lambda inner: (
        st.lists(inner)
        | st.lists(inner).map(tuple)
        | st.dictionaries(keys, inner)
        | st.frozensets(st.text(), max_size=1)
    ),
    max_leaves=20,
)


def told(value: Any) -> str:
    return repr(value)  # equal for NaN too, and apart for 1 and True


@given(values)
def test_what_is_packed_comes_back_through_json(value: Any) -> None:
    again = unpack(json.loads(json.dumps(pack(value), allow_nan=False)))
    assert told(again) == told(value)
    assert type(again) is type(value)


def test_an_error_comes_back_as_what_it_was() -> None:
    again = unpack(pack(MissingError("no disassembler", "target")))
    assert type(again) is MissingError and again.about == "target" and "disassem" in str(again)
    assert isinstance(again, AnvilError)


class Stranger(NamedTuple):
    """A record that is none of the core's."""

    command: str


@pytest.mark.parametrize(
    "plain",
    [
        pack(Stranger("rm")),
        {"records": [["os:system", ["command"]]], "value": [0, "true"]},
        {"records": [["hot_anvil.core.names:nearest", []]], "value": [0]},
        {"records": [["hot_anvil.core.codec:read", ["kind"]]], "value": [0, "x"]},
        {"records": [["hot_anvil.core.measure.summary:RatioVerdict", ["ratio"]]], "value": [0, 1]},
        {"records": [], "value": [3]},
        {"records": [], "value": [-6, "OSError", "", ""]},
        {"records": [], "value": [[]]},
        {"value": 1},
        [],
        "text",
    ],
)
def test_data_makes_nothing_but_records_of_the_core(plain: Any) -> None:
    with pytest.raises(ValueError):
        unpack(plain)


def test_a_record_that_got_a_field_with_a_default_can_still_be_read() -> None:
    plain = pack(RatioVerdict(1.0, math.inf, 1.0, "tied"))
    assert unpack(plain).low == math.inf
    name, fields = plain["records"][0]
    plain["records"] = [[name, [*fields[:-1], "colour"]]]
    with pytest.raises(ValueError, match=r"colour.*word"):
        unpack(plain)
