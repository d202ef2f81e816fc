"""Tables of the text views, whatever stands in them."""

from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.views.text.report import Report, cut

words = st.text("abcdefgh ", max_size=60).map(str.strip)
rows = st.lists(st.tuples(st.text("xyz", max_size=8), st.text("019.", max_size=6), words))


@given(rows, st.integers(40, 120))
def test_a_table_keeps_the_width_and_loses_no_word(
    body: list[tuple[str, str, str]], width: int
) -> None:
    report = Report(width)
    report.table(["name", "n", "what it is"], body, "lrl")
    lines = report.text.split("\n")
    assert all(len(line) <= width for line in lines)
    assert all(line == line.rstrip() for line in lines)
    said = report.text.split()
    wanted = [word for row in body for cell in row for word in cell.split()]
    assert sorted(said[4 + 1 :]) == sorted(wanted)  # behind the heads


@given(rows.filter(bool))
def test_numbers_end_in_one_column(body: list[tuple[str, str, str]]) -> None:
    report = Report(100)
    report.table(["name", "n"], [row[:2] for row in body], "lr")
    ends = {len(line) for line in report.text.rstrip("\n").split("\n") if line.strip()}
    full = [row for row in body if row[1]]
    assert len(ends) == 1 or len(full) < len(body)


@given(st.text(max_size=30), st.integers(2, 20))
def test_what_is_cut_says_so(text: str, width: int) -> None:
    short = cut(text, width)
    assert len(short) <= width
    assert short == text or (short.endswith("..") and text.startswith(short[:-2]))
