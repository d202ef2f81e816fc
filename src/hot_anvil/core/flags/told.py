"""What compilers say that flags stand for: one reader for each form, named by families' data files.

An option goes by its own name, its state is ON, OFF or a value.
"""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from hot_anvil.core.flags.records import OPTIMISER, PARAMETER, TARGET, TUNING, Change, Kind

Told = Mapping[str, str]  # option -> state
ON, OFF = "on", "off"


def _gnu(texts: Sequence[str]) -> dict[str, str]:
    """Read ``-Q --help=...``: options with [enabled], [disabled] or a value.

    GCC manual, "Options Controlling the Kind of Output".
    """
    out = {}
    states = {"[enabled]": ON, "[disabled]": OFF}
    for name, value in re.findall(
        r"^\s+(-[fm-][^\s\[<]*)\S*[ \t]+(\S+)[ \t]*$", "\n".join(texts), re.M
    ):
        if name.startswith("-mno-") or (value.startswith("[") and value not in states):
            continue  # a name that is another's opposite; a state that is no value
        out[name] = states.get(value, value)
    return out


_CC1 = re.compile(r'"((?:[^"\\]|\\.)*)"')
_DRIVER = {"-vectorize-loops": "-fvectorize", "-vectorize-slp": "-fslp-vectorize"}


def _llvm(texts: Sequence[str]) -> dict[str, str]:
    """Read what clang's driver passes on, as ``-###`` prints it."""
    out: dict[str, str] = {}
    for line in "\n".join(texts).split("\n"):
        words = _CC1.findall(line)
        if "-cc1" not in words:
            continue
        pairs = zip(words, [*words[1:], ""], strict=True)
        for word, value in pairs:
            if word == "-target-feature":
                out[f"-m{value[1:]}"] = ON if value[0] == "+" else OFF
            elif word in ("-target-cpu", "-tune-cpu"):
                out["-mtune="] = value
            elif word in _DRIVER:
                out[_DRIVER[word]] = ON
            elif re.fullmatch(r"-f[a-z-]+", word) and "-dir" not in word:
                plain = word.replace("-fno-", "-f", 1)
                out[plain] = ON if plain == word else OFF
    return out


def _rust(texts: Sequence[str]) -> dict[str, str]:
    """Read ``--print cfg``: the features of the processor."""
    found = re.findall(r'^target_feature="(.*)"$', "\n".join(texts), re.M)
    return {f"-Ctarget-feature={name}": ON for name in found}


READERS: Mapping[str, Callable[[Sequence[str]], dict[str, str]]] = {
    "gnu": _gnu,
    "llvm": _llvm,
    "rust": _rust,
}

# What stands for the whole set of instructions, or is told in other words: found as a change, it
# would be the whole answer.
_WHOLE = ("-march=", "-mcpu=", "-mabi=")


def changes(left: Told, right: Told) -> Iterator[Change]:
    """Give what is told otherwise of the right flags than of the left ones, as flags to add.

    A value that only one side has is left out: no flag gives it.
    """
    for option, state in right.items():
        before = left.get(option, {ON: OFF, OFF: ON}.get(state, ""))
        if state == before or option in _WHOLE or not state:
            continue
        add = _flag(option, state)
        if add and (state in (ON, OFF) or before or option == "-mtune="):
            undo = _flag(option, before)
            yield Change(_kind(option), (add,), (undo,) if undo else ())
    for option, state in left.items():
        if option not in right and state == ON:
            yield Change(_kind(option), (_flag(option, OFF),), (_flag(option, ON),))


def _kind(option: str) -> Kind:
    if option.startswith("--param"):
        return PARAMETER
    if option == "-mtune=" or option.startswith(("-mprefer-", "-mmove-max", "-mstore-max")):
        return TUNING
    return TARGET if option.startswith(("-m", "-Ctarget-feature")) else OPTIMISER


def _flag(option: str, state: str) -> str:
    """Return the flag that brings an option into a state, "" where none does."""
    if option.startswith("-Ctarget-feature="):
        start, _, name = option.partition("=")
        return f"{start}={'+' if state == ON else '-'}{name}"
    if state == ON:
        return option
    if state == OFF:
        return "" if option.endswith("=") else f"{option[:2]}no-{option[2:]}"
    return f"{option.removesuffix('=')}={state}" if state else ""
