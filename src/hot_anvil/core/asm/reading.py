"""Read a compiler's text into functions, by the reader for its instruction set."""

from hot_anvil.core.arch import architecture
from hot_anvil.core.asm.gnu import read_assembly
from hot_anvil.core.code.records import Code


def read_text(text: str, folder: str, isa: str) -> Code:
    """Read one text; files in ``folder`` are named relative to it."""
    own = architecture(isa).tooling.reader
    return own(text, folder) if own else read_assembly(text, folder, isa)
