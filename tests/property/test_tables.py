"""Tables of the text views, whatever stands in them."""

from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.views.text.report import Report, Span, cut, span

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


cells = st.text("abcxyz0189.", min_size=1, max_size=12)


@given(st.lists(st.lists(cells, min_size=6, max_size=6), min_size=1, max_size=5),
       st.integers(40, 110), st.sets(st.integers(1, 5), max_size=2))  # fmt: skip
def test_columns_without_room_go_on_below_or_are_said(
    body: list[list[str]], width: int, spare: set[int]
) -> None:
    heads = ["name", "one", "two", "three", "four", "five"]
    report = Report(width)
    below = [k for k in range(1, 6) if k not in spare]
    shown = report.table(heads, body, "lrrrrr", spare=sorted(spare), below=below[::-1])
    report.tell_left_out()
    text = report.text
    assert all(len(line) <= width for line in text.split("\n"))
    left_out = [head for head in heads if head not in shown]
    assert set(left_out) <= {heads[k] for k in spare}
    assert ("left out, for the width:" in text) == bool(left_out)
    assert all(head in text for head in heads)
    words = text.split()
    for row in body:
        for head, cell in zip(heads, row, strict=True):
            assert head in left_out or cell in words
    assert report.blocks[0].rows == tuple(tuple(map(span, row)) for row in body)  # type: ignore[union-attr]


@given(st.lists(st.text("abcdefgh", min_size=1, max_size=14), min_size=1, max_size=30),
       st.integers(0, 8), st.integers(40, 100))  # fmt: skip
def test_what_is_said_keeps_the_width_and_every_word(
    words: list[str], indent: int, width: int
) -> None:
    report = Report(width)
    report.say(" " * indent, *(Span(f"{word} ", "dim") for word in words))
    lines = report.text.rstrip("\n").split("\n")
    assert all(len(line) <= width for line in lines)
    assert " ".join(lines).split() == words
    assert all(line.startswith(" " * (indent + 4)) for line in lines[1:])
    assert len(report.blocks) == 1  # which other forms wrap for themselves
