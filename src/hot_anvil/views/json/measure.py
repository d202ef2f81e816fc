"""Measurements and choices as plain data for JSON."""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.views.json.check import verdict_row
from hot_anvil.views.json.document import Document, document, finite

if TYPE_CHECKING:
    from hot_anvil.core.measure.results import Checked, Measured, Picked
    from hot_anvil.core.measure.scaling import Growth
    from hot_anvil.core.measure.summary import Against, Result


def bench_document(
    measured: "Sequence[Measured]", notes: Sequence[str], slower: "Sequence[Result]" = ()
) -> Document:
    """Return the document of ``bench``."""
    from hot_anvil.core.measure.scaling import crossings, growths  # loads SciPy where it is needed

    results = []
    contests = []
    for item in measured:
        for standing in item.standings:
            results += [_counted(result, item) for result in standing.results]
            contests.append(
                finite(
                    {
                        "snippet": item.checked.snippet.name,
                        "inputs": standing.results[0].inputs,
                        "baseline": item.baseline,
                        "best": standing.best,
                        "noise_floor": math.exp(standing.floor) - 1,
                        "generations": standing.generations,
                        "rounds": standing.rounds,
                        "disturbed": standing.disturbed,
                        "busy": standing.busy,
                        "clock": standing.contests[0].clock,
                        "each_call_alone": standing.contests[0].alone,
                        "restoring_seconds": standing.contests[0].restoring,
                        "one_process": list(standing.contests[0].shared),
                    }
                )
            )
    excluded = [_excluded(item.checked) for item in measured]
    return document(
        "bench",
        results=results,
        contests=contests,
        excluded=[row for rows in excluded for row in rows],
        growth=[_growth(item, line) for item in measured for line in growths(item.standings)],
        crossings=[
            {"snippet": item.checked.snippet.name, **change._asdict()}
            for item in measured
            for change in crossings(item.standings)
        ],
        same_instructions=[
            {"snippet": item.checked.snippet.name, **likeness._asdict()}
            for item in measured
            for likeness in item.likenesses
        ],
        since=[
            {
                "snippet": item.checked.snippet.name,
                "inputs": one.inputs,
                "candidate": one.candidate,
                "earlier": one.earlier,
                "same_code": one.same_code,
                **_against(one.against),
            }
            for item in measured
            for one in item.since
        ],
        slower=[_result(row) for row in slower],
        notes=list(notes),
    )


def _counted(result: "Result", item: "Measured") -> Document:
    """Return a result with its executed instructions, where they were asked for."""
    out = _result(result)
    count = item.counts.get((result.candidate, result.inputs))
    if count:
        out |= {"instructions": count.instructions, "instructions_unknown": count.why or None}
        out["counted_by"] = item.counted_by
    return out


def _growth(item: "Measured", line: "Growth") -> Document:
    return {"snippet": item.checked.snippet.name, **line._asdict(), "straight": line.straight}


def _result(result: "Result") -> Document:
    fields = result._asdict()
    against, usage = fields.pop("against"), fields.pop("usage")
    more = usage._asdict() if usage else {}
    same = result.same_as or None
    return {**finite(fields), **_against(against), **more, "same_as": same}


def _against(against: "Against") -> Document:
    """Return a comparison: the main answer flat, the others in tables of their own."""
    out = {**finite(against.told._asdict()), "visible": against.visible}
    for name in ("as_built", "quiet", "busy"):
        told = getattr(against, name)
        out[name] = told and finite(told._asdict())
    return {
        **finite(out),
        "depends": against.depends or None,
        "by_placement": list(against.placements),
    }


def _excluded(checked: "Checked") -> list[Document]:
    return [verdict_row(v) for v in checked.verdicts if v not in checked.correct]


def pick_document(
    picked: "Sequence[Picked]", notes: Sequence[str], slower: "Sequence[Result]" = ()
) -> Document:
    """Return the document of ``pick``."""
    from hot_anvil.core.measure.choosing import behind_best

    ranking = []
    for item in picked:
        for row in item.pick.ranking:
            plain = finite(row._asdict())
            cost = plain.pop("cost")._asdict()
            against = _against(plain.pop("against"))
            ranking.append({"snippet": item.pick.snippet, **plain, **against, **cost})
    return document(
        "pick",
        choice={item.pick.snippet: item.pick.choice for item in picked},
        why={item.pick.snippet: item.pick.why for item in picked},
        caution={item.pick.snippet: item.pick.caution for item in picked},
        command={item.pick.snippet: item.pick.command or None for item in picked},
        tied=[
            {"snippet": item.pick.snippet, "candidate": name}
            for item in picked
            for name in item.pick.tied
            if len(item.pick.tied) > 1
        ],
        ranking=ranking,
        by_size=[
            {
                "snippet": item.pick.snippet,
                "inputs": standing.results[0].inputs,
                "candidate": row.candidate,
                **_against(behind_best(standing, row.candidate)),
            }
            for item in picked
            for standing in item.measured.standings
            for row in item.pick.ranking
        ],
        excluded=[v._asdict() for item in picked for v in item.pick.excluded],
        gain={item.pick.snippet: item.pick.gain for item in picked},
        share={item.pick.snippet: item.share for item in picked},
        measurements=bench_document([item.measured for item in picked], notes, slower),
    )
