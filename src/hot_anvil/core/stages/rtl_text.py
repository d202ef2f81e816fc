"""RTL in words of arithmetic: ``(set (reg:SI 84) (plus:SI (reg:SI 88) (const_int 1)))`` is
``r84:SI = r88 + 1``."""

import re
from collections.abc import Iterator

Tree = str | list["Tree"]
_TOKEN = re.compile(r'"[^"]*"|[()\[\]]|[^\s()\[\]]+')
_BINARY = {
    "plus": "+", "minus": "-", "mult": "*", "div": "/", "udiv": "/u", "mod": "%", "umod": "%u",
    "and": "&", "ior": "|", "xor": "^", "ashift": "<<", "ashiftrt": ">>", "lshiftrt": ">>u",
    "eq": "==", "ne": "!=", "lt": "<", "le": "<=", "gt": ">", "ge": ">=", "ltu": "<u",
    "leu": "<=u", "gtu": ">u", "geu": ">=u",
}  # fmt: skip
_UNSAID = ("clobber", "use", "unspec_volatile:BLK", "expr_list", "nil")


def in_words(pattern: str) -> str:
    """Return a pattern as an assignment, or as a call of what it does."""
    tree = _parsed(iter(_TOKEN.findall(pattern)))
    return _said(tree[0]) if tree else pattern


def _parsed(tokens: Iterator[str]) -> list[Tree]:
    out: list[Tree] = []
    for token in tokens:
        if token == "(":
            out.append(_parsed(tokens))
        elif token == "[":
            out.append(["[", *_parsed(tokens)])
        elif token in (")", "]"):
            break
        else:
            out.append(token)
    return out


def _said(tree: Tree) -> str:
    if isinstance(tree, str):
        return tree
    if not tree or not isinstance(tree[0], str):
        return ""
    head, rest = tree[0], tree[1:]
    name, _, mode = head.partition(":")
    name, *_flags = name.split("/")
    mode = mode or (head.partition("/")[2].rpartition(":")[2] if ":" in head else "")
    if name == "[":
        return "; ".join(filter(None, map(_said, rest)))
    if name == "parallel":
        return _said(rest[0]) if rest else ""
    if name in _UNSAID or head in _UNSAID:
        return ""
    if name == "set" and len(rest) == 2:
        goal = _said(rest[0])
        width = _mode(rest[0])
        return f"{goal}{width} = {_said(rest[1])}"
    if name == "reg":
        return str(rest[1]) if len(rest) > 1 and isinstance(rest[1], str) else f"r{rest[0]}"
    if name == "const_int":
        return str(rest[0])
    if name == "mem":
        return f"[{_said(rest[0])}]"
    if name == "label_ref":
        return f"L{rest[0]}"
    if name == "symbol_ref":
        return _quoted(rest)
    if name == "pc":
        return "pc"
    if name in _BINARY and len(rest) == 2:
        return f"{_inner(rest[0])} {_BINARY[name]} {_inner(rest[1])}"
    if name == "compare" and len(rest) == 2:
        return f"compare({_said(rest[0])}, {_said(rest[1])})"
    if name == "if_then_else" and len(rest) == 3:
        return f"{_inner(rest[0])} ? {_said(rest[1])} : {_said(rest[2])}"
    if name in ("const", "subreg") and rest:
        return _said(rest[0])
    return f"{name}({', '.join(filter(None, map(_said, rest)))})"


def _quoted(rest: list[Tree]) -> str:
    for one in rest:
        text = _quoted(one) if isinstance(one, list) else one
        if text.startswith('"'):
            return text.strip('"*')
    return "symbol"


def _inner(tree: Tree) -> str:
    said = _said(tree)
    return f"({said})" if " " in said and not said.startswith("[") else said


def _mode(tree: Tree) -> str:
    head = tree[0] if isinstance(tree, list) and tree and isinstance(tree[0], str) else ""
    mode = head.rpartition(":")[2] if ":" in head else ""
    return f":{mode}" if mode else ""
