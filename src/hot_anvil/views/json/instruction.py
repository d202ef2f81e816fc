"""An instruction as data."""

from hot_anvil.core.code.records import Instruction
from hot_anvil.views.json.document import Document


def plain_instruction(item: Instruction) -> Document:
    """Return an instruction's fields, those that say nothing left out."""
    plain: Document = {
        "text": item.text,
        "mnemonic": item.mnemonic,
        "operands": list(item.operands),
    }
    if item.inline_asm:
        plain["inline_asm"] = True
    if item.words:
        plain["words"] = item.words
    return plain
