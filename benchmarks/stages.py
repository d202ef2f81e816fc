"""Memory of a stage of a long source: shown, searched, as JSON, and interrupted.

    python benchmarks/stages.py [LINES]

Makes a C source of LINES (50,000) lines, asks two compilers for one stage of all of it, which the
store keeps, then runs the command on what is kept and prints its largest resident memory, which is
then its own and no compiler's. Fails above LIMIT, or where an interrupted command leaves a process
or half a dump.
"""

import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from diffing import write_source

LIMIT = 1 << 30  # bytes
COMMAND = Path(sys.executable).parent / "hot-anvil"
CASES = (
    ("gcc -O2", "optimized", ()),
    ("gcc -O2", "optimized", ("--find", " / 7;")),
    ("gcc -O2", "sched2", ()),
    ("clang -O2", "end", ()),
    ("clang -O2", "end", ("--format", "json")),
    ("clang -O2", "syntax", ("--find", "CallExpr")),
)


def run(words: Sequence[str | Path]) -> tuple[int, int, float]:
    """Run the command; return its bytes of output, its largest memory in bytes, and seconds."""
    began = time.perf_counter()
    with tempfile.TemporaryFile() as out:
        running = subprocess.Popen(words, stdout=out)
        _, status, usage = os.wait4(running.pid, 0)
        running.returncode = os.waitstatus_to_exitcode(status)
        if running.returncode:
            raise SystemExit(f"{words}: exit code {running.returncode}")
        return out.seek(0, os.SEEK_END), usage.ru_maxrss << 10, time.perf_counter() - began


def interrupted(source: Path) -> list[str]:
    """Interrupt a command that makes a dump; return what is wrong with what it leaves."""
    words: list[str | Path] = [COMMAND, "stages", source, "--build", "gcc -O1", "--show", "vrp1"]
    running = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    time.sleep(6)
    running.send_signal(signal.SIGINT)
    began = time.perf_counter()
    running.communicate(timeout=60)
    took = time.perf_counter() - began
    left = subprocess.run(["pgrep", "-f", source.name], capture_output=True, text=True, check=False)
    trouble = [] if running.returncode == 130 else [f"exit code {running.returncode}"]
    trouble += [f"still running: {left.stdout}"] if left.stdout.strip() else []
    print(f"interrupted: ends after {took:.1f} s, {'; '.join(trouble) or 'nothing left behind'}")
    return trouble


def main(words: Sequence[str]) -> int:
    """Run all cases."""
    lines = int(words[0]) if words else 50_000
    largest = 0
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder, "long_of_stages.c")
        write_source(source, lines)
        print(f"{source.read_text().count(chr(10))} lines")
        for build, stage, more in CASES:
            asked: list[str | Path] = [
                COMMAND,
                "stages",
                source,
                "--build",
                build,
                "--show",
                stage,
                *more,
            ]
            run(asked)  # a compiler is asked
            size, memory, seconds = run(asked)
            largest = max(largest, memory)
            print(
                f"{build} {stage} {' '.join(more)}: {size / 1e6:.1f} MB in {seconds:.1f} s, "
                f"{memory >> 20} MB of memory"
            )
        trouble = interrupted(source)
    return int(largest > LIMIT or bool(trouble))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
