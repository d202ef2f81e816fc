"""What is shown, with each instruction changed: in another syntax, with words beside it."""

from collections.abc import Callable

from hot_anvil.core.arch.x86.intel import intel_text
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.records import Pair
from hot_anvil.core.results.code import Listing, SnippetDiff


def to_intel(instruction: Instruction) -> Instruction:
    """Return an x86 instruction in Intel syntax; comparing still needs the other."""
    mnemonic, operands = intel_text(instruction)
    return instruction._replace(mnemonic=mnemonic, operands=(operands,) if operands else ())


Change = Callable[[Instruction], Instruction]


def listing_in_intel(listing: Listing) -> Listing:
    """Return a listing in Intel syntax; one of another instruction set as it is."""
    return change_listing(listing, to_intel) if listing.isa == "x86" else listing


def diff_in_intel(item: SnippetDiff) -> SnippetDiff:
    """Return a comparison in Intel syntax; one of another instruction set as it is."""
    return change_diff(item, to_intel, to_intel) if item.isa == "x86" else item


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
