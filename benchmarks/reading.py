"""How long reading a build's assembly takes, as a share of what its compiler took.

    python benchmarks/reading.py [FILE.c] [--build "gcc -O2"] ...

For each build: the compiler's time to write the text, then in a process of its
own the time to read and attribute that text, and the memory this took beyond a
bare start, as a multiple of the text. Without a FILE the demo's sources,
repeated under other names to 50,000 lines, stand in; a real amalgamation, such
as the one in the npm package better-sqlite3, is the better test.
"""

import argparse
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.core.build.builds import split_flags
from hot_anvil.core.toolchain.records import find_toolchain
from hot_anvil.system.toolchain.finding import find_toolchains

DEMO = Path(__file__).parent.parent / "src" / "hot_anvil" / "data" / "demo"
SHARE, MEMORY = 0.10, 12.0  # limits: of the compiler's time, of the text's bytes
READ = """
import resource, sys, time
from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.gnu import read_assembly
syntax_of(sys.argv[2])
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
text = open(sys.argv[1], errors="surrogateescape").read()
started = time.perf_counter()
code = read_assembly(text, "/", sys.argv[2])
took = time.perf_counter() - started
after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
lined = sum(i.line > 0 for f in code.functions for i in f.instructions)
print(took, (after - before) * 1024, len(text), code.total, lined)
"""


def stand_in(folder: Path) -> Path:
    """Write 50,000 lines of C made of the demo's sources and return the file."""
    parts = [(DEMO / name).read_text() for name in ("clamp.c", "checksum.c", "crossings.c")]
    out: list[str] = []
    number = 0
    while sum(part.count("\n") for part in out) < 50_000:
        number += 1
        out += [re.sub(r"\b((?:clamp|checksum|crossings)_\w+)", rf"\1_{number}", p) for p in parts]
    file = folder / "amalgamation.c"
    file.write_text("".join(out))
    return file


def main() -> int:
    """Print a row a build; return 1 when a limit is exceeded."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("file", nargs="?", type=Path)
    parser.add_argument("--build", action="append", default=[])
    args = parser.parse_args()
    code = 0
    heads = ("build", "compiler", "reading", "share", "text", "memory", "instructions", "lined")
    print("{:<28}{:>10}{:>9}{:>8}{:>9}{:>8}{:>14}{:>7}".format(*heads))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        file = args.file or stand_in(folder)
        for build in args.build or ["gcc -O2", "clang -O2"]:
            command, *flags = split_flags(build, "--build")
            chain = find_toolchain(command, find_toolchains().toolchains)
            if chain is None:
                print(f"{build:<28}not here")
                continue
            debug = "-gline-tables-only" if chain.family == "clang" else "-g1"
            argv = [chain.drivers["c"].path, *chain.flags, *flags, debug, "-w", "-S"]
            started = time.perf_counter()
            subprocess.run([*argv, "-o", folder / "x.s", file], check=True)
            compiled = time.perf_counter() - started
            read = [sys.executable, "-c", READ, str(folder / "x.s"), chain.isa]
            said = subprocess.run(read, check=True, capture_output=True, text=True).stdout
            took, memory, size, total, lined = map(float, said.split())
            share, times = took / compiled, memory / size
            code |= share > SHARE or times > MEMORY
            print(
                f"{build:<28}{compiled:>8.1f} s{took:>7.2f} s{share:>8.1%}{size / 1e6:>6.1f} MB"
                f"{times:>7.1f}x{total:>14.0f}{lined / total:>7.1%}"
            )
    print(f"limits: {SHARE:.0%} of the compiler's time, {MEMORY:.0f}x the text")
    return int(code)


if __name__ == "__main__":
    sys.exit(main())
