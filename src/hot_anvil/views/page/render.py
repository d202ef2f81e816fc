"""A page record as one HTML file."""

import base64
import hashlib
from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, Any

from markupsafe import Markup

from hot_anvil.core.names import visible
from hot_anvil.core.results.answers import KeptAnswer
from hot_anvil.core.results.pages import Page, PageSnippet
from hot_anvil.views.page.sheets import as_html
from hot_anvil.views.page.spine import SIGNS, file_rows
from hot_anvil.views.text.answers import answer_report
from hot_anvil.views.text.report import Report
from hot_anvil.views.text.words import halves

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_WIDTH = 200  # columns of what is laid out line by line


def page_html(page: Page) -> str:
    """Return the page as a file that needs nothing else."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    engine = Environment(
        loader=PackageLoader("hot_anvil.views.page"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    engine.filters["visible"] = visible
    engine.filters["halves"] = halves
    engine.filters["visible_lines"] = lambda text: "\n".join(map(visible, text.split("\n")))
    script, style = (_text(engine, name) for name in ("script.js", "style.css"))
    return engine.get_template("page.html").render(
        page=page,
        when=_when(page.at),
        script=script,
        script_digest=_digest(script),
        style=style,
        snippets=[_snippet(one) for one in page.snippets],
        signs=[(sign, word) for word, sign in SIGNS.items() if sign],
    )


def answer_page(kept: KeptAnswer, title: str) -> Page:
    """Return the page of one answer alone, without code."""
    snippets = tuple(
        PageSnippet(
            name, (), -1, (), {}, (), (_only(kept, one),), (), (), (), (),
            ("no code: this is one answer alone; 'hot-anvil report' puts source lines beside it",),
        )
        for name, one in zip(kept.answer.snippets, kept.answer.results, strict=True)
    )  # fmt: skip
    return Page(title, kept.at, kept.version, kept.machine_text, (), (), snippets, kept.origin)


def _only(kept: KeptAnswer, result: Any) -> KeptAnswer:
    return kept._replace(answer=kept.answer._replace(results=(result,)))


def _text(engine: Any, name: str) -> Markup:
    source, _, _ = engine.loader.get_source(engine, name)
    return Markup(source)


def _digest(script: str) -> str:
    """Return what the content security policy knows the one script by."""
    return base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()


def _when(at: float) -> str:
    return datetime.fromtimestamp(at).astimezone().strftime("%Y-%m-%d %H:%M %Z")


def _snippet(one: PageSnippet) -> dict[str, Any]:
    answers: dict[str, KeptAnswer] = {kept.answer.command: kept for kept in one.answers}
    return {
        "own": one,
        "choice": _choice(answers),
        "figures": _figures(answers),
        "shown": [column for column in one.columns if column.shown],
        "hidden": sum(not column.shown for column in one.columns),
        "base": one.columns[one.base].build if one.base >= 0 else "",
        "files": list(file_rows(one)),
        "answers": [_answer(kept) for kept in one.answers],
        "sheets": _sheets(one),
    }


def _choice(answers: dict[str, KeptAnswer]) -> dict[str, Any] | None:
    """Return the choice with all that qualifies it, None where nothing was chosen."""
    if "pick" not in answers:
        return None
    kept = answers["pick"]
    pick = kept.answer.results[0].pick
    excluded: dict[tuple[str, str], list[str]] = {}
    for verdict in pick.excluded:
        excluded.setdefault((verdict.verdict, verdict.why), []).append(verdict.candidate)
    return {
        "pick": pick,
        "number": kept.number,
        "when": _when(kept.at),
        "machine": kept.machine_text,
        "excluded": [(names, *key) for key, names in excluded.items()],
        "others": [name for name in pick.tied if name != pick.choice],
    }


def _figures(answers: dict[str, KeptAnswer]) -> list[dict[str, Any]]:
    """Return the drawn figures that the answers have data for."""
    from hot_anvil.views.plots.costs import draw_costs
    from hot_anvil.views.plots.growth import draw_growth
    from hot_anvil.views.plots.ranking import draw_ranking
    from hot_anvil.views.plots.tally import draw_tally

    out = []
    timed = answers.get("pick") or answers.get("measure")
    if timed:
        result = timed.answer.results[0]
        measured = getattr(result, "measured", result)
        out += [_drawn("ranking with intervals", draw_ranking, measured),
                _drawn("time over sizes", draw_growth, measured)]  # fmt: skip
        if hasattr(result, "pick"):
            out.append(_drawn("what time costs", draw_costs, result))
    if "check" in answers:
        out.append(_drawn("outputs by build", draw_tally, answers["check"].answer.results[0]))
    return [figure for figure in out if figure]


def _drawn(name: str, draw: "Callable[[Any], Figure]", data: Any) -> dict[str, Any] | None:
    from hot_anvil.views.plots.drawing import as_bytes, drawing, inked

    try:
        with drawing():
            figure = draw(data)
    except ValueError:
        return None  # there is no such data
    svg = inked(as_bytes(figure, "svg", inline=True).decode())
    return {"name": name, "svg": Markup(svg)}


def _answer(kept: KeptAnswer) -> dict[str, Any]:
    whole = kept.answer._replace(said=())  # a page stands alone
    name = f"{kept.answer.snippets[0]}: {kept.answer.command}, answer {kept.number}"
    return {
        "command": kept.answer.command,
        "number": kept.number,
        "when": _when(kept.at),
        "machine": kept.machine_text,
        "version": kept.version,
        "sheet": as_html(answer_report(whole, _WIDTH), name),
    }


def _sheets(one: PageSnippet) -> list[tuple[str, Markup]]:
    """Return what opens below the source: builds with diagnostics, facts, frames."""
    from hot_anvil.core.facts.table import chosen
    from hot_anvil.views.text.compile import compile_report
    from hot_anvil.views.text.facts import facts_report
    from hot_anvil.views.text.frame import frame_report

    out: list[tuple[str, Report]] = []
    if one.builts:
        name = "builds, what compilers complain about"
        out.append((name, compile_report(one.builts, (), {}, one.sources, _WIDTH)))
    if one.facts:
        name = "facts of functions and loops, where builds differ"
        shown = [known._replace(table=chosen(known.table, [], False)) for known in one.facts]
        out.append((name, facts_report(shown, one.facts, _WIDTH, False, False)))
    if one.frames:
        out.append(("where variables live", frame_report(one.frames, _WIDTH)))
    return [(name, as_html(report, f"{one.name}: {name}")) for name, report in out]
