"""How long ``watch`` takes beyond the compilers' own time, from a save to its answer.

    python benchmarks/watching.py [SOURCE.c] [REPEATS]

Watches the demo with four builds, and SOURCE.c (any C file that compiles alone; one of 50,000 lines
is made where none is named) with two. Each repeat edits a number in the source, times a look, and
times the compilers alone on the same commands, two at a time, in the same run. Prints medians and
the seconds beyond; fails if the demo takes more than LIMIT beyond.
"""

import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from statistics import median

import hot_anvil
from hot_anvil.api import Watch
from hot_anvil.system.build.grid import plan_jobs
from hot_anvil.system.build.jobs import compiler_argv

LIMIT = 0.3  # seconds beyond the compilers' own time, on the demo
ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src" / "hot_anvil" / "data" / "demo"
DEMO_BUILDS = ("gcc:lean", "gcc:fast", "clang:fast", "clang:wide")


def edit(file: Path, number: int, line: str) -> None:
    """Put another number into a line of the source: a state that was never compiled."""
    pattern = re.escape(line).replace("NUMBER", r"\d+")
    text, found = re.subn(pattern, line.replace("NUMBER", str(number + 11)), file.read_text())
    if found != 1:
        raise SystemExit(f"{file}: '{line}' is not in it once")
    file.write_text(text)


def compilers_alone(watch: Watch, snippet: str, builds: Sequence[str], work: Path) -> float:
    """Return the seconds of the same compiles without us, two at a time."""
    space = watch.anvil.workspace
    own = next(s for s in space.bench.snippets if s.name == snippet)
    pairs = [(own, space.build(name)) for name in builds]
    jobs = plan_jobs(pairs, space.found.toolchains, space.found.families, space.store.root)
    commands = []
    for k, job in enumerate(jobs.values()):
        commands.append(compiler_argv(job, "text", str(work / f"{k}.s"), str(work / f"{k}.d")))
        if not job.family.text_is_object:  # its own object runs: it is made by a compile too
            commands.append(compiler_argv(job, "object", str(work / f"{k}.o"), ""))
    began = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda argv: subprocess.run(
            argv, cwd=space.store.root, check=True, capture_output=True), commands))  # fmt: skip
    return time.perf_counter() - began


def trial(
    watch: Watch, snippet: str, builds: Sequence[str], file: Path, line: str, times: int
) -> float:
    """Print the medians of a case; return the seconds beyond the compilers."""
    watch.look(())
    looks, alone = [], []
    with tempfile.TemporaryDirectory() as folder:
        for number in range(times):
            edit(file, number, line)
            began = time.perf_counter()
            found = watch.look((file.name,))
            looks.append(time.perf_counter() - began)
            assert any(one.state == "changed" for one in found.builds), "the edit changed no code"
            alone.append(compilers_alone(watch, snippet, builds, Path(folder)))
    beyond = median(a - b for a, b in zip(looks, alone, strict=True))
    print(
        f"{file.name}, {len(builds)} builds: a save is answered in {median(looks):.2f} s, the "
        f"compilers alone take {median(alone):.2f} s; beyond them {beyond:.2f} s "
        f"({median(looks) / median(alone):.2f}x)"
    )
    return beyond


def main(words: Sequence[str]) -> int:
    """Run both cases."""
    source = Path(words[0]) if words and words[0].endswith(".c") else None
    times = int(next((w for w in words if w.isdigit()), 5))
    with tempfile.TemporaryDirectory() as folder:
        bench = Path(folder, "demo")
        shutil.copytree(DEMO, bench)
        watch = Watch(hot_anvil.open_bench(bench), DEMO_BUILDS, ["clamp"])
        clamp = bench / "clamp.c"
        clamp.write_text(clamp.read_text().replace("level = high;", "level = high - 1;"))
        demo = trial(watch, "clamp", DEMO_BUILDS, clamp, "level = high - NUMBER;", times)
        if source is None:
            from diffing import write_source

            source = Path(folder, "long.c")
            write_source(source, 50_000)
        whole = Path(folder, "whole")
        shutil.copytree(source.parent, whole, ignore=shutil.ignore_patterns(".hot-anvil"))
        builds = ("gcc -O2", "clang -O2")
        own = whole / source.name
        marked = own.read_text() + "\nint last_of_all(int a) { return a + 1; }\n"
        own.write_text(marked)
        watch = Watch(hot_anvil.open_source(own, builds))
        names = [build.name for build in watch.anvil.builds]
        trial(watch, watch.anvil.bench.snippets[0].name, names, own,
              "last_of_all(int a) { return a + NUMBER; }", max(times // 2, 1))  # fmt: skip
    return int(demo > LIMIT)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
