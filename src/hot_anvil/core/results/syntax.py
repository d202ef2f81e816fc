"""What is shown, with each instruction changed: in another syntax, with words beside it."""

from collections.abc import Callable

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.named_values import named_values
from hot_anvil.core.code.records import Code, Instruction, parts_by_owner
from hot_anvil.core.diff.records import Pair, Part
from hot_anvil.core.results.code import Listing, SnippetDiff

Change = Callable[[Instruction], Instruction]


def listing_in(syntax: str, listing: Listing) -> Listing:
    """Return a listing in another syntax; as it is where its instruction set has none such."""
    change = syntax_of(listing.isa).others.get(syntax)
    return change_listing(listing, change) if change else listing


def diff_in(syntax: str, item: SnippetDiff) -> SnippetDiff:
    """Return a comparison in another syntax, each side as far as its instruction set has it."""
    left, right = (syntax_of(isa).others.get(syntax, _same) for isa in (item.isa, item.right_isa))
    return change_diff(item, left, right)


def _same(instruction: Instruction) -> Instruction:
    return instruction


def with_values(item: SnippetDiff, left: Code, right: Code) -> SnippetDiff:
    """Return a comparison with what is behind labels beside the instructions that name them."""
    sides = [
        (
            parts_by_owner(code.functions) if any(f.constants for f in code.functions) else {},
            code.isa,
        )
        for code in (left, right)
    ]
    if not any(owners for owners, _ in sides):
        return item
    found: dict[tuple[int, str], dict[int, str]] = {}

    def told(side: int, function: str, place: int, old: Instruction | None) -> Instruction | None:
        owners, isa = sides[side]
        if old is None or place < 0 or function not in owners:
            return old
        key = side, function
        if key not in found:
            found[key] = named_values(owners[function], isa)
        value = found[key].get(place)
        return old._replace(words=f"= {value}") if value else old

    names = item.diff.left_names

    def part(old: Part) -> Part:
        first = names.get(old.function, old.function)
        pairs = tuple(
            pair._replace(
                left=told(0, first, pair.place[0], pair.left),
                right=told(1, old.function, pair.place[1], pair.right),
            )
            for pair in old.pairs
        )
        return old._replace(pairs=pairs)

    rows = tuple(row._replace(parts=tuple(map(part, row.parts))) for row in item.diff.rows)
    return item._replace(explained=item.explained._replace(diff=item.diff._replace(rows=rows)))


def change_listing(listing: Listing, change: Change) -> Listing:
    """Return a listing with each instruction changed."""
    functions = tuple(
        function._replace(
            lines=tuple(
                line._replace(
                    instructions=tuple(
                        placed._replace(instruction=change(placed.instruction))
                        for placed in line.instructions
                    )
                )
                for line in function.lines
            )
        )
        for function in listing.functions
    )
    return listing._replace(functions=functions)


def change_diff(item: SnippetDiff, change_left: Change, change_right: Change) -> SnippetDiff:
    """Return a comparison with each instruction of both sides changed."""

    def pair(old: Pair) -> Pair:
        left, right = old.left and change_left(old.left), old.right and change_right(old.right)
        return old._replace(left=left, right=right)

    rows = tuple(
        row._replace(
            parts=tuple(part._replace(pairs=tuple(map(pair, part.pairs))) for part in row.parts)
        )
        for row in item.diff.rows
    )
    return item._replace(explained=item.explained._replace(diff=item.diff._replace(rows=rows)))
