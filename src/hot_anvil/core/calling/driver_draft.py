"""A driver to fill in, for functions whose values no bench file can say."""

import re
from collections.abc import Sequence

from hot_anvil.core.binary.signatures import Signature

_INCLUDE = re.compile(r"^\s*#\s*include\b.*$", re.MULTILINE)
_FILL = "/* fill in */"


def driver_draft(signature: Signature, source: str, text: str) -> str:
    """Return the C++ source of a driver for one function of a source, ``text`` its contents.

    It does not compile before it is filled in: what it would compare says nothing.
    """
    given = [p for p in signature.parameters if p.type.callable_with]
    made = [p for p in signature.parameters if not p.type.callable_with]
    own = [include.strip() for include in _INCLUDE.findall(text)]
    passed = ", ".join(f"held->{p.name}" for p in signature.parameters)
    return "\n".join(
        [
            f"// Makes what {signature.name} of {source} takes, calls it, says what came of it.",
            f"//     {signature.text}",
            "// The bench gives values for what HOT_ANVIL_PREPARE takes: numbers and buffers.",
            '#error "fill in what this driver makes, calls and compares, then delete this line"',
            "",
            '#include "hot_anvil_driver.h"',
            "#include <cstdint>",
            *own,
            f"{_FILL} the header that declares {signature.name}, or its declaration and types",
            "",
            "struct Held {",
            *(f"    {_FILL} {p.name};   // {p.type.to.name if p.type.to else p.type.name}"
              for p in made),
            *(f"    {_FILL} {p.name};" for p in given),
            "};",
            "",
            "HOT_ANVIL_PREPARE(const int32_t *values, int32_t n)",
            "{",
            f"    return new Held{{{_FILL}}};",
            "}",
            "",
            f"HOT_ANVIL_CALL({signature.name})",
            "{",
            "    auto *held = static_cast<Held *>(prepared);",
            f"    {signature.name}({passed}); {_FILL}",
            "}",
            "",
            "HOT_ANVIL_RESULT(int64_t)",
            "{",
            "    auto *held = static_cast<Held *>(prepared);",
            f"    return {_FILL};   // what must be equal under every build",
            "}",
            "",
            "HOT_ANVIL_RELEASE { delete static_cast<Held *>(prepared); }",
            "",
        ]
    )  # fmt: skip


def draft_snippet(signature: Signature, sources: Sequence[str], driver: str) -> list[str]:
    """Return the lines of a bench for a function called through a driver that is a draft."""
    names = ", ".join(f'"{source}"' for source in sources)
    return [
        "",
        f"# {signature.text}",
        f"# {driver} makes what it takes: fill it in, then take the comment signs away.",
        "# [[snippet]]",
        f'# name    = "{signature.name}"',
        f"# sources = [{names}]",
        f'# entries = ["{signature.name}"]',
        f'# driver  = "{driver}"',
        "# [snippet.inputs]",
        '# values = { fill = "uniform(0, 100)", count = "n" }',
        "# n      = 64",
    ]
