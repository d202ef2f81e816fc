"""A kept answer as text: which view shows the answer of which command."""

from hot_anvil.core.results.answers import Answer
from hot_anvil.views.text.report import Report


def answer_report(answer: Answer, width: int, everything: bool = False) -> Report:
    """Return an answer as text; ``everything``: also what is next to nothing.

    The code for it is loaded only now.
    """
    if answer.command == "check":
        from hot_anvil.views.text.check import check_report

        return check_report(answer.results, answer.asked, width)
    if answer.command == "hotspots":
        from hot_anvil.views.text.hotspots import hotspots_report

        return hotspots_report(answer.results, answer.sources, width, everything)
    if answer.command == "whatif":
        from hot_anvil.views.text.whatif import whatif_report

        return whatif_report(answer.results, answer.notes, width, answer.said)
    from hot_anvil.views.text.measure import measure_report, slower_lines

    if answer.command == "pick":
        from hot_anvil.views.text.pick import pick_report

        report = pick_report(answer.results, answer.notes, width, answer.said)
    else:
        report = measure_report(answer.results, answer.notes, width, answer.said)
    return slower_lines(report, answer.slower, answer.limit)
