"""Tell a function's prologue and epilogues from its body."""

from collections.abc import Sequence

from hot_anvil.core.arch import isa_of
from hot_anvil.core.arch.spelling import canonical
from hot_anvil.core.code.records import Instruction

PROLOGUE, EPILOGUE = "prologue", "epilogue"


def phases(instructions: Sequence[Instruction], isa_name: str) -> tuple[str, ...]:
    """Return for each instruction PROLOGUE, EPILOGUE or "" for the body.

    The prologue is the unbroken run of frame-building instructions a function
    starts with; an epilogue the unbroken run of frame-removing ones that ends
    in a return. What a compiler has moved among other work counts as body.
    """
    isa = isa_of(isa_name)
    texts = [canonical(i.mnemonic, i.operands, isa_name) for i in instructions]
    marks = [""] * len(texts)
    for index, text in enumerate(texts):
        if not isa.setup.match(text):
            break
        marks[index] = PROLOGUE
    for index, text in enumerate(texts):
        if not (isa.returns.match(text) and isa.teardown.match(text)):
            continue
        while index >= 0 and not marks[index] and isa.teardown.match(texts[index]):
            marks[index] = EPILOGUE
            index -= 1
    return tuple(marks)
