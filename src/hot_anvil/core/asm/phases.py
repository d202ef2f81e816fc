"""Tell a function's prologue and epilogues from its body."""

from collections.abc import Sequence
from typing import Literal

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch.spelling import canonical
from hot_anvil.core.code.records import Instruction

Phase = Literal["prologue", "epilogue"]
PROLOGUE: Phase = "prologue"
EPILOGUE: Phase = "epilogue"


def phases(instructions: Sequence[Instruction], isa_name: str) -> tuple[Phase | Literal[""], ...]:
    """Return for each instruction PROLOGUE, EPILOGUE or "" for the body.

    The prologue is the unbroken run of frame-building instructions a function
    starts with; an epilogue the unbroken run of frame-removing ones that ends
    in a return. What a compiler has moved among other work counts as body.
    """
    arch = architecture(isa_name)
    frame, returns = arch.abi.frame, arch.syntax.returns
    texts = [canonical(i.mnemonic, i.operands, isa_name) for i in instructions]
    marks: list[Phase | Literal[""]] = [""] * len(texts)
    for index, text in enumerate(texts):
        if not frame.setup.match(text):
            break
        marks[index] = PROLOGUE
    for index, text in enumerate(texts):
        if not (returns.match(text) and frame.teardown.match(text)):
            continue
        while index >= 0 and not marks[index] and frame.teardown.match(texts[index]):
            marks[index] = EPILOGUE
            index -= 1
    return tuple(marks)
