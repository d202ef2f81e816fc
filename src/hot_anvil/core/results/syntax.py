"""What is shown, with each instruction changed: in another syntax, with words beside it."""

from collections.abc import Callable

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.records import Pair
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
