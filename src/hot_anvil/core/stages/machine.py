"""Machine IR, in which LLVM compilers choose instructions and registers."""

import re
from collections.abc import Iterable

from hot_anvil.core.stages.records import (
    DIVISION,
    LOAD,
    MARKER,
    STORE,
    Block,
    Body,
    Statement,
    call_traits,
)

FORM = "machine IR"
_LABEL = re.compile(r"^(?:\d+B\s)?\s*(bb\.\d+)\b[^=]*:$")
_GOES = re.compile(r"%(bb\.\d+)")
_PLACE = re.compile(r",? debug-location !\d+; (.+?):(\d+)(?::\d+)?(?: @\[.*)?$")
_NOTES = re.compile(r",? debug-location !\d+(?:; .*)?$")
# Of all targets: a call says which registers it keeps, but for some that end in a jump.
_CALL = re.compile(r"<regmask|^(?:.*= )?(?!ADJCALLSTACK)\w*(?:CALL|TAIL|TCRETURN)\w*\b")
_CALLED = re.compile(r"[@&]([\w.$]+)")
_DIVIDES = re.compile(r"^(?:.*= )?\w*DIV\w*\b|^(?:.*= )?\w*REM[UW]*\b")


def read_function(name: str, lines: Iterable[str]) -> Body:
    """Return the function that the lines of one dump hold."""
    statements: list[Statement] = []
    blocks: list[Block] = []
    for raw in lines:
        line = re.sub(r"^\d+B\t?", "", raw.rstrip("\n"))
        text = line.strip()
        label = _LABEL.match(raw.rstrip())
        if label:
            blocks.append(Block(label[1], len(statements), ()))
        elif text.startswith("successors:") and blocks:
            goes = tuple(dict.fromkeys(_GOES.findall(text)))
            blocks[-1] = blocks[-1]._replace(goes_to=goes)
        elif blocks and text and not text.startswith((";", "liveins:", "#", "}", "{")):
            statements.append(_statement(text))
    return Body(name, FORM, tuple(statements), tuple(blocks))


def _statement(text: str) -> Statement:
    place = _PLACE.search(text)
    plain = _NOTES.sub("", text)
    traits: list[str] = []
    if re.match(
        r"(?:DBG_|CFI_INSTRUCTION|frame-\w+ CFI_|BUNDLE|KILL|IMPLICIT_DEF|.*= PHI )", plain
    ):
        traits.append(MARKER)
    elif _CALL.search(plain):
        called = _CALLED.search(plain.partition(" :: ")[0])
        traits += call_traits(called[1] if called else "")
    elif _DIVIDES.search(plain):
        traits.append(DIVISION)
    if ":: (" in plain:
        accesses = plain.partition(":: (")[2]
        traits += [LOAD] if "load" in accesses else []
        traits += [STORE] if "store" in accesses else []
    file, line = (place[1], int(place[2])) if place else ("", 0)
    return Statement(file, line, plain, tuple(traits))
