"""A compiler's forms between source and assembly, as data."""

from collections.abc import Sequence

from hot_anvil.core.diff.records import Row
from hot_anvil.core.stages.following import Followed, Step, passes_of
from hot_anvil.core.stages.records import Body, FunctionStages, Offered, Stage, counts_of
from hot_anvil.views.json.document import Document, document


def offered_document(found: Sequence[Offered]) -> Document:
    """Return which stages there are."""
    builds = [
        {"snippet": one.snippet, "build": one.build, "why": one.why or None,
         "forms": {form: list(names) for form, names in one.forms.items()}}
        for one in found
    ]  # fmt: skip
    return document("stages", builds=builds)


def stages_document(found: Sequence[FunctionStages]) -> Document:
    """Return the stages of a function with what it holds at each."""
    functions = [
        {
            **_head(one),
            "stages": [
                {"stage": s.name, "form": s.body.form, "unchanged_by": list(s.passed),
                 **counts_of(s.body)._asdict()}
                for s in one.stages
            ],
        }
        for one in found
    ]  # fmt: skip
    return document("stages", functions=functions)


def _head(one: FunctionStages) -> Document:
    return {"snippet": one.snippet, "build": one.build, "function": one.title,
            "symbol": one.symbol,
            "same_code": one.code == "same" if one.code else None}  # fmt: skip


def whole_document(build: str, stage: str) -> Document:
    """Return the head of a form of whole sources, whose functions follow."""
    return document("stage", build=build, stage=stage)


def body_document(one: FunctionStages, stage: Stage) -> Document:
    """Return one form of a function."""
    plain = {**_head(one), **body_plain(stage.body), "function": one.title}
    return document("stage", build=one.build, stage=stage.name, functions=[plain])


def body_plain(body: Body) -> Document:
    """Return a form of a function as plain data."""
    return {
        "function": body.function,
        "form": body.form,
        "blocks": [
            {"label": b.label, "first": b.first, "goes_to": list(b.goes_to)} for b in body.blocks
        ],
        "statements": [
            {"file": s.file or None, "line": s.line or None, "text": s.text,
             "traits": list(s.traits)}
            for s in body.statements
        ],
    }  # fmt: skip


def followed_document(followed: Sequence[tuple[FunctionStages, Followed]]) -> Document:
    """Return what became of something under each build."""
    builds = [
        {
            **_head(one),
            "word": found.word,
            "step": _step(one, found, found.step) if found.step else None,
            "steps": [_step(one, found, step) for step in found.steps],
            "counts": [
                {"stage": stage.name, "form": stage.body.form, "count": count}
                for stage, count in zip(one.stages, found.counts, strict=True)
            ],
        }
        for one, found in followed
    ]
    sought = followed[0][1].sought.words if followed else None
    return document("followed", what=sought, builds=builds)


def _step(one: FunctionStages, found: Followed, step: Step) -> Document:
    return {
        "stage": one.stages[step.at].name, "form": one.stages[step.at].body.form,
        "after": one.stages[step.at - 1].name if step.at else None,
        "passes": list(passes_of(one, found, step)), "before_count": step.before,
        "after_count": step.after,
    }  # fmt: skip


def difference_document(
    compared: Sequence[tuple[FunctionStages, tuple[str, str], Sequence[Row]]],
) -> Document:
    """Return two forms side by side."""
    functions = [
        {
            **_head(one), "left": names[0], "right": names[1],
            "lines": [
                {
                    "file": row.file or None, "line": row.line or None, "state": row.state,
                    "pairs": [
                        [*(i.text if i else None for i in (p.left, p.right)), p.state]
                        for part in row.parts
                        for p in part.pairs
                    ],
                }
                for row in rows
            ],
        }
        for one, names, rows in compared
    ]  # fmt: skip
    return document("stage difference", functions=functions)
