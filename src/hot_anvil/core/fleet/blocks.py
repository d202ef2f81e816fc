"""One measurement made in blocks, a machine of the class each."""

from collections.abc import Sequence

from hot_anvil.core.measure.measurements import Measurements


def join_blocks(blocks: Sequence[Sequence[Measurements]]) -> tuple[list[Measurements], list[int]]:
    """Return the blocks as one measurement for each sweep point, and the blocks that do not fit.

    ``blocks`` holds for each machine its measurements, a sweep point each. One does not fit the
    first where it timed other candidates, or by another clock.
    """
    first = blocks[0]
    fitting = [number for number, block in enumerate(blocks) if _fits(block, first)]
    left_out = [number for number in range(len(blocks)) if number not in fitting]
    used = [blocks[number] for number in fitting]
    if len(used) == 1:
        return list(first), left_out
    return [_joined(own) for own in zip(*used, strict=True)], left_out


def _fits(block: Sequence[Measurements], first: Sequence[Measurements]) -> bool:
    return [_kind(one) for one in block] == [_kind(one) for one in first]


def _kind(one: Measurements) -> tuple[object, ...]:
    return (
        one.inputs, one.candidates, dict(one.same_as), one.clock, one.alone, one.cold,
        one.threads, frozenset(one.shared),
    )  # fmt: skip


def _joined(own: Sequence[Measurements]) -> Measurements:
    generations = tuple(g for one in own for g in one.generations)
    usage = {
        name: used._replace(
            peak_bytes=max(one.usage[name].peak_bytes for one in own if name in one.usage)
        )
        for name, used in own[0].usage.items()
    }
    machines = tuple(len(one.generations) for one in own)
    return own[0]._replace(generations=generations, usage=usage, machines=machines)
