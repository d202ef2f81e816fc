"""Which flags matter, as data."""

from collections.abc import Sequence

from hot_anvil.core.flags.records import Effect, Narrowed, Timed
from hot_anvil.views.json.document import Document, document, finite


def narrow_document(found: Sequence[Narrowed]) -> Document:
    """Return the document of ``narrow``."""
    return document("narrow", narrowed=[_narrowed(one) for one in found])


def _narrowed(one: Narrowed) -> Document:
    known = not one.same and not one.fault
    return {
        "snippet": one.snippet, "entry": one.entry, "symbol": one.symbol,
        "left": one.left, "right": one.right, "same_code": one.same,
        "why": one.fault or None, "differences": one.pool, "compiles": one.compiles,
        "needed": [
            {
                "flags": list(needed.change.add), "dropped": list(needed.change.drop),
                "kind": needed.change.kind, "alone": _effect(needed.alone),
                "taken": _effect(needed.taken),
            }
            for needed in one.needed
        ],
        "flags": list(one.flags) if known else None,
        "command": one.command if known else None, "instead_of": one.instead,
        "removals_tried": one.checked, "unexplained": one.unexplained or None,
        "level": one.level or None, "beyond_levels": list(one.beyond),
        "made_for": list(one.made_for),
        "adds_instructions": one.adds_instructions if known else None,
        "refused": list(one.refused), "timed": [_timed(timed) for timed in one.timed],
    }  # fmt: skip


def _effect(effect: Effect) -> Document:
    return {
        "same_code": effect.same, "why": effect.why or None, "reasons": list(effect.reasons),
        "left": effect.left, "right": effect.right,
    }  # fmt: skip


def _timed(timed: Timed) -> Document:
    told = timed.result.comparison.verdict if timed.result else None
    return finite(
        {
            "build": timed.build, "what": timed.what, "change": timed.change or None,
            "verdict": timed.verdict, "why": timed.why or None,
            "seconds_per_call": timed.result.seconds_per_call if timed.result else None,
            "ratio": told.ratio if told else None, "low": told.low if told else None,
            "high": told.high if told else None, "word": told.word if told else None,
        }
    )  # fmt: skip
