"""What a check once saw of a candidate holds until its code changes."""

from hot_anvil.core.verify.verdicts import CORRECT, UNSTABLE, Verdict
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store


def with_earlier(store: Store, path: str, verdict: Verdict) -> Verdict:
    """Return a verdict, unstable where any check of the same program saw it so.

    ``path`` is the candidate's program, which goes by what it was made of.
    """
    if not path or verdict.verdict not in (CORRECT, UNSTABLE):
        return verdict
    seen = verdict.why if verdict.verdict == UNSTABLE else None
    key = digest("seen unstable", path, verdict.entry)
    earlier = store.derive(key, lambda _: seen)
    if earlier is None or verdict.verdict == UNSTABLE:
        return verdict
    return verdict._replace(verdict=UNSTABLE, why=f"an earlier check of this code saw: {earlier}")
