"""The one place that writes: answers to standard output or a file, talk to stderr."""

import argparse
import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from importlib import import_module
from itertools import chain
from pathlib import Path
from typing import Any

from hot_anvil.core.names import visible
from hot_anvil.errors import RequestError
from hot_anvil.views.text.report import Report

# One accent for change, one for trouble; bold and dim carry the rest.
# These colours can be read on white and on black.
_STYLES = {
    "plain": "",
    "dim": "bright_black",
    "strong": "bold",
    "change": "turquoise4",
    "trouble": "red3",
}


_MARKDOWN_WIDTH = 200  # columns of what is laid out line by line
_SECONDS_OF_SILENCE = 20.0  # where no terminal shows progress


def document(command: str, kind: str, *results: Any) -> dict[str, Any]:
    """Return the JSON document of ``kind`` of a command; loads the code for it only now."""
    views = import_module(f"hot_anvil.views.json.{command}")
    made: dict[str, Any] = getattr(views, f"{kind}_document")(*results)
    return made


def csv_rows(command: str, *results: Any, kind: str = "") -> Iterable[Sequence[Any]]:
    """Return a command's results as rows of a table of ``kind``, the head first."""
    views = import_module(f"hot_anvil.views.json.{command}")
    made: Iterable[Sequence[Any]] = getattr(views, f"{kind or command}_rows")(*results)
    return made


def table_rows(results: Iterable[Any]) -> Iterable[Sequence[Any]]:
    """Return results as rows of their table, the head first; loads the code for it only now."""
    from hot_anvil.core.results.tables import csv_table

    return csv_table(results)


def _between(parts: Iterable[str]) -> Iterator[str]:
    """Give the parts of a list, commas between them."""
    for k, part in enumerate(parts):
        yield ",\n" if k else "\n"
        yield part


def _lines_of(text: str) -> Report:
    report = Report()
    for line in text.rstrip("\n").split("\n"):
        report.add(line.expandtabs(8))
    return report


def _cell(value: Any) -> Any:
    """Return a value as CSV holds it: nothing for one that is not known, or has no end."""
    if isinstance(value, str):
        return visible(value)
    return "" if value is None or value in (float("inf"), float("-inf")) else value


class Output:
    """Writes an answer in the form the arguments ask for."""

    pages = True  # long answers on a terminal go through a pager

    def __init__(self, args: argparse.Namespace) -> None:
        self.form: str = args.format
        self.file: str | None = args.out
        self._progress: Any = None
        self._task: Any = None
        self._told = time.monotonic()

    @property
    def width(self) -> int:
        """Columns to fill: COLUMNS, else the terminal's, else 100."""
        if self.form == "markdown":
            return _MARKDOWN_WIDTH
        said = os.environ.get("COLUMNS", "")
        if said.isdigit() and int(said) >= 40:
            return int(said)
        try:
            return max(os.get_terminal_size(sys.stdout.fileno()).columns, 40)
        except (OSError, ValueError):
            return 100

    def answer(
        self,
        report: Callable[[], Report],
        document: Callable[[], dict[str, Any]],
        rows: Callable[[], Iterable[Sequence[Any]]] = tuple,
        files: Callable[[], str] = str,
    ) -> None:
        """Write the answer; only the form asked for is made.

        ``rows`` are those of CSV; ``files`` makes what another program reads: JUnit, SARIF.
        """
        self.stop_progress()
        if self.form == "csv":
            import csv
            import io

            text = io.StringIO()
            shown = ([_cell(value) for value in row] for row in rows())
            csv.writer(text, lineterminator="\n").writerows(shown)
            self._write(text.getvalue())
        elif self.form in ("junit", "sarif"):
            self._write(files())
        elif self.form == "json":
            import json

            self._write(json.dumps(document(), indent=1, allow_nan=False) + "\n")
        elif self.form == "markdown":
            from hot_anvil.views.markdown import as_markdown

            self._write(as_markdown(report()))
        elif self.file is None and sys.stdout.isatty():
            self._write_to_terminal(report())
        else:
            self._write(report().text)

    def part(self, report: Callable[[], Report], document: Callable[[], dict[str, Any]]) -> None:
        """Write one of many answers at once; a document stands in a line of its own."""
        self.stop_progress()
        if self.form == "json":
            import json

            text = json.dumps(document(), allow_nan=False) + "\n"
        elif self.form == "markdown":
            from hot_anvil.views.markdown import as_markdown

            text = as_markdown(report())
        elif self.file is None and self._in_colour():
            text = self._coloured(report())
        else:
            text = report().text
        if self.file is None:
            self._write(text)
            return
        try:
            with Path(self.file).open("ab") as goal:
                goal.write(text.encode(errors="surrogateescape"))
        except OSError as error:
            raise self._unwritten(error) from None

    def _unwritten(self, error: OSError) -> RequestError:
        return RequestError(f"--out {self.file}: cannot be written ({error.strerror}).")

    def answer_stream(
        self,
        reports: Callable[[], Iterable[Report]],
        head: Callable[[], dict[str, Any]],
        name: str,
        items: Callable[[], Iterable[dict[str, Any]]],
    ) -> None:
        """Write a long answer part by part, holding one part at a time.

        A document is its ``head`` with ``items`` as the list ``name`` behind it.
        """
        self.stop_progress()
        if self.form == "json":
            import json

            whole = json.dumps({**head(), name: []}, indent=1)
            start, _, end = whole.rpartition("[]")
            parts = (json.dumps(item, allow_nan=False) for item in items())
            self._stream(chain((start, "["), _between(parts), ("]", end, "\n")))
        elif self.form == "markdown":
            from hot_anvil.views.markdown import as_markdown

            self._stream(as_markdown(report) for report in reports())
        elif self.file is None and sys.stdout.isatty():
            from hot_anvil.cli import paging

            colour = self._in_colour()
            texts = (self._coloured(r) if colour else r.text for r in reports())
            pager = paging.pager() if self.pages and sys.stdin.isatty() else None
            if pager:
                paging.show_stream(texts, pager)
            else:
                sys.stdout.writelines(texts)
        else:
            self._stream(report.text for report in reports())

    def _stream(self, texts: Iterable[str]) -> None:
        try:
            goal = open(self.file, "wb") if self.file else sys.stdout.buffer  # noqa: PTH123, SIM115
        except OSError as error:
            raise self._unwritten(error) from None
        try:
            for text in texts:
                goal.write(text.encode(errors="surrogateescape"))
            goal.flush()
        finally:
            if self.file:
                goal.close()

    def answer_raw(self, text: str, document: Callable[[], dict[str, Any]]) -> None:
        """Write a text untouched, but for what a terminal would act upon; or its document."""
        if self.form == "json" or (self.file is None and sys.stdout.isatty()):
            self.answer(lambda: _lines_of(text), document)
            return
        self.stop_progress()
        self._write(text)

    def write_page(self, html: str, name: str) -> None:
        """Write a page into the file asked for, else ``name``, and say where it is."""
        self.stop_progress()
        self.file = self.file or name
        self._write(html)
        size = len(html.encode(errors="surrogateescape")) / 1e6
        sys.stdout.write(f"{self.file}: a page of {size:.1f} MB, for any browser\n")

    def show(self, report: Report) -> None:
        """Write lines to a terminal at once, over whatever prompt stands there."""
        sys.stdout.write("\r\x1b[K")
        sys.stdout.flush()
        sys.stdout.write(self._coloured(report) if self._in_colour() else report.text)
        sys.stdout.flush()

    def progress(self, what: str, done: int, total: int) -> None:
        """Show how far a long step is: on a terminal as it goes, else by a line now and then."""
        if not sys.stderr.isatty():
            self._tell(what, done, total)
            return
        if self._progress is None:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn

            columns = (
                TextColumn("{task.description}"),
                BarColumn(30, _STYLES["dim"], _STYLES["change"], _STYLES["change"]),
                TextColumn("{task.percentage:.0f} %"),
            )
            self._progress = Progress(*columns, console=Console(stderr=True), transient=True)
            self._progress.start()
            self._task = self._progress.add_task(what, total=total)
        self._progress.update(self._task, description=what, completed=done, total=total)

    def _tell(self, what: str, done: int, total: int) -> None:
        now = time.monotonic()
        if now - self._told >= _SECONDS_OF_SILENCE:
            self._told = now
            share = f": {100 * done // total} %" if total else ""
            sys.stderr.write(f"hot-anvil: {what}{share}\n")

    def stop_progress(self) -> None:
        """Take the progress line away."""
        if self._progress is not None:
            self._progress.stop()
            self._progress = None

    def _in_colour(self) -> bool:
        return sys.stdout.isatty() and "NO_COLOR" not in os.environ

    def _write(self, text: str) -> None:
        if self.file is None:
            stream = sys.stdout.buffer
            stream.write(text.encode(errors="surrogateescape"))
            stream.flush()
            return
        try:
            Path(self.file).write_bytes(text.encode(errors="surrogateescape"))
        except OSError as error:
            raise self._unwritten(error) from None

    def _write_to_terminal(self, report: Report) -> None:
        """Write to a terminal; what is longer than it goes through the person's pager."""
        from hot_anvil.cli import paging

        text = self._coloured(report) if self._in_colour() else report.text
        turned = self.pages and sys.stdin.isatty() and paging.is_long(len(report.lines))
        pager = paging.pager() if turned else None
        if pager:
            paging.show(text, pager)
        else:
            sys.stdout.write(text)

    def _coloured(self, report: Report) -> str:
        """Return a report with what makes a terminal colour it."""
        import io

        from rich.console import Console
        from rich.text import Text

        # In memory: rich would end the command where the reader of its output went away.
        console = Console(
            file=io.StringIO(), force_terminal=True, width=max(self.width, 200), highlight=False,
            soft_wrap=True,
        )  # fmt: skip
        for line in report.lines:
            text = Text()
            for piece in line:
                text.append(piece.text, _STYLES[piece.style])
            text.rstrip()
            console.print(text)
        return console.file.getvalue()  # type: ignore[attr-defined, no-any-return]
