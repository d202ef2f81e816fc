"""A cold grid of 24 builds against ``make -j`` doing the same compiles, and a warm one.

    python benchmarks/grid.py [FILE.c] [--rounds 5]

In each round, in random order: ``make -j`` on a makefile that runs the same
commands under each of the 24 flag sets (compile to text, assemble with a
listing, disassemble), ``make -j`` on one that only makes the objects, and the
tool's compile of the same grid with an empty store; then the tool once more,
warm. What is compared is the wall time from outside. The tool also reads and
proves every build; make does not.
"""

import argparse
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.core.toolchain.records import find_toolchain
from hot_anvil.system.toolchain.finding import find_toolchains

BIN = Path(sys.executable).parent
DEMO = Path(__file__).parent.parent / "src" / "hot_anvil" / "data" / "demo"
LEVELS = ["-O0", "-O1", "-O2", "-O3", "-Os", "-Ofast"]
MORE = ["", "-march=native", "-fno-inline", "-fno-strict-aliasing"]
COLD, WARM = 1.15, 0.05


def seconds(argv: list[str], cwd: Path) -> float:
    """Run a command and return how long it took, as the caller sees it."""
    started = time.perf_counter()
    env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    subprocess.run(argv, cwd=cwd, check=True, stdout=subprocess.DEVNULL, env=env)
    return time.perf_counter() - started


def main() -> int:
    """Print the ratios; return 1 when a limit is exceeded."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("file", nargs="?", type=Path, default=DEMO / "clamp.c")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--compiler", default="gcc")
    args = parser.parse_args()
    chain = find_toolchain(args.compiler, find_toolchains().toolchains)
    if chain is None:
        print(f"{args.compiler} is not here")
        return 3
    flags = [f"{level} {more}".strip() for level in LEVELS for more in MORE]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        source = folder / args.file.name
        for file in [args.file, *args.file.parent.glob("*.h")]:  # with the headers beside it
            shutil.copy(file, folder)
        write(folder, source.name, chain.drivers["c"].path, flags)
        cores = str(os.cpu_count() or 1)
        make = ["make", "-s", "-j", cores, "-f"]
        argvs = {"make": [*make, "same.mk", "all"], "objects": [*make, "objects.mk", "all"]}
        tool = [str(BIN / "hot-anvil"), "compile", "."]
        argvs["cold"] = tool
        ratios: dict[str, list[float]] = {"cold": [], "warm": [], "bare": []}
        for _ in range(args.rounds):
            times = {}
            for what in random.sample(list(argvs), len(argvs)):
                shutil.rmtree(folder / ".hot-anvil", ignore_errors=True)
                for made in folder.glob("build*.*"):
                    made.unlink()
                times[what] = seconds(argvs[what], folder)
            if not (folder / ".hot-anvil").is_dir():
                seconds(tool, folder)
            times["warm"] = seconds(tool, folder)
            for what, base in (("cold", "make"), ("warm", "make"), ("bare", "objects")):
                ratios[what].append(times["cold" if what == "bare" else what] / times[base])
            print(", ".join(f"{what} {took:.2f} s" for what, took in times.items()))
    cold, warm, bare = (statistics.median(values) for values in ratios.values())
    print(f"cold {cold:.2f}x of make -j with the same commands (limit {COLD})")
    print(f"warm {warm:.3f}x of it (limit {WARM})")
    print(f"cold {bare:.2f}x of make -j that only makes the objects")
    return int(cold > COLD or warm > WARM)


def write(folder: Path, source: str, compiler: str, flags: list[str]) -> None:
    """Write the same grid as a makefile and as a bench."""
    names = [f"build{number}" for number in range(len(flags))]
    same = objects = f"all: {' '.join(f'{n}.o' for n in names)}\n"
    for name, flag in zip(names, flags, strict=True):
        compile_it = f"{compiler} {flag} -g1 -w"
        objects += f"{name}.o: {source}\n\t{compile_it} -c -o $@ {source}\n"
        machine = " ".join(word for word in flag.split() if word.startswith("-m"))
        same += (
            f"{name}.o: {source}\n\t{compile_it} -S -o {name}.s {source}\n"
            f"\t{compiler} {machine} -c -Wa,-aln={name}.lst -o $@ {name}.s\n"
            f"\tobjdump -dr -z -w --no-show-raw-insn $@ > {name}.dump\n"
        )
    (folder / "same.mk").write_text(same)
    (folder / "objects.mk").write_text(objects)
    sets = "".join(f'{n} = "{flag} -w"\n' for n, flag in zip(names, flags, strict=True))
    text = f'[flags]\n{sets}[grid]\ntoolchains = ["{Path(compiler).name}"]\n'
    (folder / "anvil.toml").write_text(f'{text}[[snippet]]\nsources = ["{source}"]\n')


if __name__ == "__main__":
    sys.exit(main())
