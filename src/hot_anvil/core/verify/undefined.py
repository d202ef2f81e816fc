"""What undefined behaviour that was shown means for the candidates of an entry."""

from collections.abc import Iterable, Mapping, Sequence

from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.verdicts import CORRECT, UNDEFINED, Verdict

# Behaviour that a flag gives a meaning: start of the message -> flags.
_DEFINED_BY: Mapping[str, tuple[str, ...]] = {
    "signed integer overflow": ("-fwrapv", "-fno-strict-overflow"),
    "negation of": ("-fwrapv", "-fno-strict-overflow"),
}


def with_accepted(verdicts: Iterable[Verdict], accept: Mapping[str, str]) -> tuple[Verdict, ...]:
    """Return the verdicts with the reasons for which a bench accepts some: verdict -> why."""
    return tuple(v._replace(accepted=accept.get(v.verdict, "")) for v in verdicts)


def with_undefined(
    verdicts: Iterable[Verdict], found: Sequence[Undefined], flags: Mapping[str, Sequence[str]]
) -> tuple[Verdict, ...]:
    """Return the verdicts, correct ones as undefined where the bench's own inputs show that.

    ``flags`` are those of each build. What an edge shows counts for the comparison on that edge
    only.
    """
    out = []
    for verdict in verdicts:
        shown = (
            one
            for one in found
            if not one.edge
            and one.entry == (verdict.entry or "main")
            and not _has_a_meaning(one, flags.get(verdict.build, ()))
        )
        first = next(shown, None) if verdict.verdict == CORRECT else None
        out.append(_undefined(verdict, first) if first else verdict)
    return tuple(out)


def _has_a_meaning(found: Undefined, flags: Sequence[str]) -> bool:
    """Tell whether a build's flags say what the source's behaviour means."""
    for message, meaning in _DEFINED_BY.items():
        if found.message.startswith(message):
            return any(flag in meaning for flag in flags)
    return False


def _undefined(verdict: Verdict, found: Undefined) -> Verdict:
    where = f" at {found.place.text}" if found.place.text else ""
    return verdict._replace(
        verdict=UNDEFINED,
        why=f"{found.message}{where}, found by {found.build}",
        inputs=found.inputs,
        place=found.place,
    )
