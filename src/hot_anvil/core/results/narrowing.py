"""Show less of a comparison: source lines, line states."""

from hot_anvil.core.asm.filters import read_lines
from hot_anvil.core.diff.records import STATES
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.errors import RequestError


def only_rows(item: SnippetDiff, lines: str | None, states: str | None) -> SnippetDiff:
    """Return the comparison with just some lines; totals and reasons stay those of the whole."""
    rows = item.diff.rows
    if lines:
        first, last = read_lines(lines)
        rows = tuple(row for row in rows if first <= row.line <= last)
    if states:
        wanted = states.split(",")
        for state in wanted:
            if state not in STATES:
                raise RequestError(
                    f"{state}: there is no such line state.{did_you_mean(state, STATES)} "
                    f"The states are: {listed(STATES)}.",
                    about="state",
                )
        rows = tuple(row for row in rows if row.state in wanted)
    explained = item.explained._replace(diff=item.diff._replace(rows=rows))
    return item._replace(explained=explained)
