"""Answers that are kept: how each is written, now and when it is shown again."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.core.results.answers import Answer
    from hot_anvil.views.text.report import Report


def write_answer(answer: "Answer", out: Output, everything: bool = False) -> None:
    """Write an answer in the form that was asked for; ``everything``: also what is next to nothing.

    The results of a command are its own records; which, core.results.answers says.
    """
    out.answer(
        lambda: _REPORTS[answer.command](answer, out.width, everything),
        lambda: answer_document(answer),
        lambda: table_rows(answer.results),
        lambda: _for_tools(answer, out.form),
    )


def answer_document(answer: "Answer") -> dict[str, Any]:
    """Return the JSON document of an answer."""
    return document(answer.command, answer.command, *_DOCUMENTED[answer.command](answer))


def _for_tools(answer: "Answer", form: str) -> str:
    if answer.command != "check":
        raise RequestError(f"--format {form}: it is for verdicts, and this is no check.")
    if form == "junit":
        from hot_anvil.views.tools.junit import check_junit

        return check_junit(answer.results, answer.accept)
    from hot_anvil.views.tools.sarif import check_sarif

    return check_sarif(answer.results)


def _check(answer: "Answer", width: int, everything: bool) -> "Report":
    from hot_anvil.views.text.check import check_report

    return check_report(answer.results, answer.asked, width)


def _measure(answer: "Answer", width: int, everything: bool) -> "Report":
    from hot_anvil.views.text.measure import measure_report, slower_lines

    report = measure_report(answer.results, answer.notes, width, answer.said)
    return slower_lines(report, answer.slower, answer.limit)


def _pick(answer: "Answer", width: int, everything: bool) -> "Report":
    from hot_anvil.views.text.measure import slower_lines
    from hot_anvil.views.text.pick import pick_report

    report = pick_report(answer.results, answer.notes, width, answer.said)
    return slower_lines(report, answer.slower, answer.limit)


def _hotspots(answer: "Answer", width: int, everything: bool) -> "Report":
    from hot_anvil.views.text.hotspots import hotspots_report

    return hotspots_report(answer.results, answer.sources, width, everything)


_REPORTS: dict[str, "Callable[[Answer, int, bool], Report]"] = {
    "check": _check, "measure": _measure, "pick": _pick, "hotspots": _hotspots,
}  # fmt: skip

_DOCUMENTED: dict[str, "Callable[[Answer], tuple[Any, ...]]"] = {
    "check": lambda answer: (answer.results,),
    "measure": lambda answer: (answer.results, answer.notes, answer.slower),
    "pick": lambda answer: (answer.results, answer.notes, answer.slower),
    "hotspots": lambda answer: (answer.results, answer.sources),
}
