"""Measurements and choices as plain data for JSON."""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.measure.scaling import Scaling
from hot_anvil.core.measure.summary import Comparison
from hot_anvil.views.json.check import faults, verdict_row
from hot_anvil.views.json.document import Document, document, finite

if TYPE_CHECKING:
    from hot_anvil.core.measure.elsewhere import Elsewhere
    from hot_anvil.core.measure.results import Measured
    from hot_anvil.core.measure.summary import Result
    from hot_anvil.core.verify.results import Checked


def measure_document(
    measured: "Sequence[Measured]", notes: Sequence[str], slower: "Sequence[Result]" = ()
) -> Document:
    """Return the document of ``measure``."""
    from hot_anvil.core.measure.scaling import crossings, scalings  # loads SciPy where it is needed

    results = []
    rows = []
    for item in measured:
        for summary in item.summaries:
            results += [_counted(result, item) for result in summary.results]
            rows.append(
                finite(
                    {
                        "snippet": item.checked.snippet.name,
                        "inputs": summary.results[0].inputs,
                        "baseline": item.baseline,
                        "best": summary.best,
                        "noise_floor": math.exp(summary.floor) - 1,
                        "generations": summary.generations,
                        "rounds": summary.rounds,
                        "disturbed": summary.disturbed,
                        "busy": summary.busy,
                        "clock": summary.measurements[0].clock,
                        "each_call_alone": summary.measurements[0].alone,
                        "copies": summary.measurements[0].copies,
                        "restoring_seconds": summary.measurements[0].restoring,
                        "one_process": list(summary.measurements[0].shared),
                    }
                )
            )
    excluded = [_excluded(item.checked) for item in measured]
    return document(
        "measure",
        faults=faults(item.checked for item in measured),
        results=results,
        measurements=rows,
        excluded=[row for rows in excluded for row in rows],
        scaling=[_scaling(item, line) for item in measured for line in scalings(item.summaries)],
        crossings=[
            {"snippet": item.checked.snippet.name, **change._asdict()}
            for item in measured
            for change in crossings(item.summaries)
        ],
        same_instructions=[
            {"snippet": item.checked.snippet.name, **identity._asdict()}
            for item in measured
            for identity in item.identities
        ],
        earlier=[
            {
                "snippet": item.checked.snippet.name,
                "inputs": one.inputs,
                "candidate": one.candidate,
                "earlier": one.earlier,
                "same_code": one.same_code,
                **plain_comparison(one.comparison),
            }
            for item in measured
            for one in item.earlier
        ],
        elsewhere=[_elsewhere(item, one) for item in measured for one in item.elsewhere],
        slower=[_result(row) for row in slower],
        notes=list(notes),
    )


def _counted(result: "Result", item: "Measured") -> Document:
    """Return a result with its executed instructions, where they were asked for."""
    out = _result(result)
    count = item.counts.get((result.candidate, result.inputs))
    if count:
        out |= {"instructions": count.instructions, "instructions_unknown": count.why or None}
        out["counted_by"] = count.how or item.counted_by
    return out


def _elsewhere(item: "Measured", one: "Elsewhere") -> Document:
    from hot_anvil.core.measure.scaling import count_scalings

    return {
        "snippet": item.checked.snippet.name,
        "target": one.target,
        "counted_by": one.counted_by,
        "unit": one.unit,
        "fewest": list(one.fewest),
        "scaling": [
            {
                "candidate": line.candidate,
                "per_call": line.per_call,
                "per_element": line.per_element,
                "misfit": line.misfit,
                "curve": line.curve,
                "straight": line.straight,
            }
            for line in count_scalings(one)
        ],
        "candidates": [
            {
                "candidate": candidate.candidate,
                "to_fewest": candidate.to_fewest,
                "stack_bytes": candidate.stack,
                "flash_bytes": candidate.chip.flash if candidate.chip else None,
                "ram_bytes": candidate.chip.ram if candidate.chip else None,
                "least": _extreme(candidate.chip.least) if candidate.chip else None,
                "most": _extreme(candidate.chip.most) if candidate.chip else None,
                "clock_hz": candidate.clock_hz,
                "stand_ins": list(candidate.chip.stand_ins) if candidate.chip else [],
                "counts": [
                    {
                        "inputs": label,
                        one.unit: count.instructions,
                        f"{one.unit}_unknown": count.why or None,
                        "seconds": candidate.seconds(count),
                    }
                    for label, count in candidate.counts
                ],
            }
            for candidate in one.candidates
        ],
    }


def _extreme(found: "tuple[int, str] | None") -> Document | None:
    return {"cycles": found[0], "inputs": found[1]} if found else None


def _scaling(item: "Measured", line: "Scaling") -> Document:
    return {"snippet": item.checked.snippet.name, **line._asdict(), "straight": line.straight}


def _result(result: "Result") -> Document:
    fields = result._asdict()
    against, usage = fields.pop("comparison"), fields.pop("usage")
    more = usage._asdict() if usage else {}
    same = result.same_as or None
    return {**finite(fields), **plain_comparison(against), **more, "same_as": same}


def plain_comparison(against: "Comparison") -> Document:
    """Return a comparison: the main answer flat, the others in tables of their own."""
    out = {**finite(against.verdict._asdict()), "visible": against.visible}
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
