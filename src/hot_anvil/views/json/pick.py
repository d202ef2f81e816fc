"""The choice as data."""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.views.json.check import faults
from hot_anvil.views.json.document import Document, document, finite

if TYPE_CHECKING:
    from hot_anvil.core.measure.results import Picked
    from hot_anvil.core.measure.summary import Result
from hot_anvil.views.json.measure import measure_document, plain_comparison


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
            against = plain_comparison(plain.pop("comparison"))
            compiling = cost.pop("compiling")
            cost |= {
                "compile_seconds": compiling.seconds,
                "compile_low": compiling.low,
                "compile_high": compiling.high if math.isfinite(compiling.high) else None,
                "compile_runs": compiling.runs,
            }
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
        elsewhere={
            item.pick.snippet: {one.target: list(one.fewest) for one in item.measured.elsewhere}
            for item in picked
        },
        by_size=[
            {
                "snippet": item.pick.snippet,
                "inputs": summary.results[0].inputs,
                "candidate": row.candidate,
                **plain_comparison(behind_best(summary, row.candidate)),
            }
            for item in picked
            for summary in item.measured.summaries
            for row in item.pick.ranking
        ],
        faults=faults(item.measured.checked for item in picked),
        excluded=[v._asdict() for item in picked for v in item.pick.excluded],
        explored={item.pick.snippet: item.explored._asdict() for item in picked if item.explored},
        gain={item.pick.snippet: item.pick.gain for item in picked},
        share={item.pick.snippet: item.share for item in picked},
        measurements=measure_document([item.measured for item in picked], notes, slower),
    )
