"""What facts cost: those of a large source's build, beside compiling it.

Writes a source of made-up gauge functions of the size asked for, compiles it,
then runs ``hot-anvil facts`` on what is compiled already, in a process of its
own: once with nothing known of it, once again from the store. Prints both as
shares of the compiler's time, taken before and after.

    python benchmarks/inspecting.py [LINES] [COMPILER FLAGS ...]
"""

import sys
import tempfile
from pathlib import Path

from diffing import COMMAND, run, write_source


def main(words: list[str]) -> None:
    """Compile, inspect, print."""
    lines = int(words[0]) if words else 50_000
    build = " ".join(words[1:]) or "gcc -O2"
    with tempfile.TemporaryDirectory() as name:
        source = Path(name, "gauges.c")
        write_source(source, lines)
        compiler: list[str | Path] = [
            *build.split(),
            "-g1",
            "-c",
            source,
            "-o",
            Path(name, "out.o"),
        ]
        before = run(*compiler)
        run(COMMAND, "compile", source, "--build", build)
        facts: list[str | Path] = [
            COMMAND,
            "facts",
            source,
            "--build",
            build,
            "--out",
            Path(name, "facts.txt"),
        ]
        first, again = run(*facts), run(*facts)
        after = run(*compiler)
        alone = (before + after) / 2
        print(f"{source.read_text().count(chr(10))} lines of source, {build}")
        print(f"compiler alone {before:.1f} s before, {after:.1f} s after")
        print(f"facts {first:.1f} s: {first / alone:.1%}; again {again:.1f} s: {again / alone:.1%}")


if __name__ == "__main__":
    main(sys.argv[1:])
