"""The ledger as a picture: source lines down, builds across, instructions as light and number."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from hot_anvil.core.diff.ledger import Ledger, LedgerRow
from hot_anvil.views.plots.drawing import GRID, INK, height_of, new_figure, shown

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_TEXT = 46  # letters of a source line
MOST = 48  # lines; of more, those that builds disagree on most


def draw_ledger(ledger: Ledger) -> "Figure":
    """Return the figure of a ledger; raises ValueError where no build made code."""
    columns = [k for k, total in enumerate(ledger.totals) if total is not None]
    rows = [row for row in ledger.rows if row.line > 0]
    if not columns or not rows:
        raise ValueError("no build made code of a source line")
    kept = _kept(rows)
    title = f"{ledger.snippet}: instructions by source line and build"
    if len(kept) < len(rows):
        title += f" (the {len(kept)} of {len(rows)} lines that differ most)"
    figure = new_figure(title, height_of(len(kept), 0.22, 2.6))
    axes = figure.subplots()
    _cells(axes, figure, kept, columns)
    several = len({row.file for row in kept}) > 1
    size = max(min(9.0, 330.0 / len(kept)), 5.0)
    axes.set_yticks(range(len(kept)), [_line(row, several) for row in kept], fontsize=size,
                    fontfamily=["DejaVu Sans Mono"])  # fmt: skip
    turned = len(columns) > 6
    axes.set_xticks(
        range(len(columns)), [shown(ledger.columns[k], 40) for k in columns],
        fontsize=max(min(9.0, 260.0 / len(columns)), 6.0), rotation=60 if turned else 0,
        ha="left" if turned else "center", rotation_mode="anchor" if turned else None,
    )  # fmt: skip
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    return figure


def _kept(rows: Sequence[LedgerRow]) -> list[LedgerRow]:
    most = sorted(range(len(rows)), key=lambda k: (-rows[k].spread, k))[:MOST]
    return [rows[k] for k in sorted(most)]


def _line(row: LedgerRow, several: bool) -> str:
    file = f"{row.file}:" if several else ""
    return f"{file}{row.line:>4}  {shown(' '.join(row.text.split()), _TEXT):<{_TEXT}}"


def _cells(axes: Any, figure: Any, rows: Sequence[LedgerRow], columns: Sequence[int]) -> None:
    import numpy as np
    from matplotlib.colors import LogNorm

    counts = np.array(
        [[cell.instructions if (cell := row.cells[k]) else 0 for k in columns] for row in rows],
        dtype=float,
    )
    most = max(counts.max(), 2.0)
    image = axes.imshow(
        np.where(counts > 0, counts, np.nan), cmap="cividis", norm=LogNorm(1, most), aspect="auto"
    )
    light = np.log(np.maximum(counts, 1)) / np.log(most)
    size = max(min(8.5, 300.0 / len(rows), 220.0 / len(columns)), 0)
    if size >= 4:
        for r, row in enumerate(rows):
            for c, k in enumerate(columns):
                marks = cell.marks[:1] if (cell := row.cells[k]) and len(columns) <= 10 else ()
                text = " ".join([f"{counts[r, c]:.0f}" if counts[r, c] else "-", *marks])
                ink = "white" if counts[r, c] and light[r, c] < 0.55 else "black"
                axes.text(c, r, text, ha="center", va="center", fontsize=size,
                          color=ink if counts[r, c] else INK)  # fmt: skip
    axes.set_xticks(np.arange(len(columns) + 1) - 0.5, minor=True)
    axes.set_yticks(np.arange(len(rows) + 1) - 0.5, minor=True)
    axes.grid(which="minor", color=GRID, linewidth=0.6)
    axes.tick_params(which="minor", length=0)
    bar = figure.colorbar(image, ax=axes, fraction=0.03, pad=0.01)
    bar.set_label("instructions (-: none)")
    bar.ax.yaxis.set_major_formatter(lambda value, _: f"{value:.0f}")
    bar.ax.yaxis.set_minor_formatter(lambda value, _: "")
