"""What is shown, in the other syntax of x86, or with symbols in place of titles."""

from hot_anvil.core.code import Instruction
from hot_anvil.core.compared import Pair
from hot_anvil.core.intel import intel_text
from hot_anvil.core.shown import Listing, SnippetDiff


def to_intel(instruction: Instruction) -> Instruction:
    """Return an x86 instruction in Intel syntax; comparing still needs the other."""
    mnemonic, operands = intel_text(instruction)
    return instruction._replace(mnemonic=mnemonic, operands=(operands,) if operands else ())


def listing_in_intel(listing: Listing) -> Listing:
    """Return a listing in Intel syntax; one of another instruction set as it is."""
    if listing.isa != "x86":
        return listing
    functions = tuple(
        function._replace(
            lines=tuple(
                line._replace(
                    instructions=tuple(
                        placed._replace(instruction=to_intel(placed.instruction))
                        for placed in line.instructions
                    )
                )
                for line in function.lines
            )
        )
        for function in listing.functions
    )
    return listing._replace(functions=functions)


def diff_in_intel(item: SnippetDiff) -> SnippetDiff:
    """Return a comparison in Intel syntax; one of another instruction set as it is."""
    if item.isa != "x86":
        return item

    def pair(old: Pair) -> Pair:
        left, right = old.left and to_intel(old.left), old.right and to_intel(old.right)
        return old._replace(left=left, right=right)

    rows = tuple(
        row._replace(
            parts=tuple(part._replace(pairs=tuple(map(pair, part.pairs))) for part in row.parts)
        )
        for row in item.diff.rows
    )
    return item._replace(explained=item.explained._replace(diff=item.diff._replace(rows=rows)))
