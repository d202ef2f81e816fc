"""Answers that are kept: how each is written, now and when it is shown again."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from hot_anvil.cli.output import Output, document, table_rows
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.core.results.answers import Answer


def write_answer(answer: "Answer", out: Output, everything: bool = False) -> None:
    """Write an answer in the form that was asked for; ``everything``: also what is next to nothing.

    The results of a command are its own records; which, core.results.answers says.
    """
    from hot_anvil.views.text.answers import answer_report

    out.answer(
        lambda: answer_report(answer, out.width, everything),
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


_DOCUMENTED: dict[str, "Callable[[Answer], tuple[Any, ...]]"] = {
    "check": lambda answer: (answer.results,),
    "measure": lambda answer: (answer.results, answer.notes, answer.slower),
    "pick": lambda answer: (answer.results, answer.notes, answer.slower),
    "whatif": lambda answer: (answer.results, answer.notes),
    "hotspots": lambda answer: (answer.results, answer.sources),
}
