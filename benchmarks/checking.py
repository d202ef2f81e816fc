"""What checking costs: `hot-anvil check` on the demo against the same calls from plain C.

    python benchmarks/checking.py

The C program (checking.c) is linked once with each build's objects; it calls
each entry once on each input set and compares. Both sides start from what is
compiled already, in turns, in one run. "checked before" has the small inputs
of failing candidates and the sanitizers' findings in the store; "first time"
has not.
"""

import os
import re
import shutil
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.api import Anvil, open_bench
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.calling.protocol import ON_LINE, lay_out
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.worker_objects import NATIVE
from hot_anvil.system.check.checking import input_sets
from hot_anvil.usecases.entries import find_callable

HERE = Path(__file__).parent
DEMO = HERE.parent / "src" / "hot_anvil" / "data" / "demo"
COMMAND = Path(sys.executable).parent / "hot-anvil"
RUNS = 9


def programs(anvil: Anvil, folder: Path) -> list[list[str]]:
    """Return the commands that make the same calls from C, one for each build of each snippet."""
    from hot_anvil.core.calling.shim import shim_source

    host = host_toolchain(anvil.workspace.found.toolchains)
    compiler = host.drivers["c"].path
    commands = []
    for snippet in anvil.bench.snippets:
        if snippet.program:
            continue
        signatures = find_callable(anvil.workspace, snippet).signatures
        work = folder / snippet.name
        work.mkdir()
        (work / "shim.c").write_text(shim_source(signatures))
        rows = [
            (layout := lay_out(entry, inputs)).head(ON_LINE, 0) + b"".join(layout.parts)
            for entry, sets in enumerate(input_sets(anvil.bench, snippet, signatures))
            for inputs in sets
        ]
        data = b"".join(struct.pack("<I", len(row)) + row for row in rows)
        (work / "inputs").write_bytes(struct.pack("<I", len(rows)) + data)
        for built in anvil.compile([snippet.name]):
            if built.status != COMPILED or built.whole or len(built.units) < len(snippet.sources):
                continue  # the C side cannot: it leaves these calls out, in its own favour
            objects = [str(anvil.workspace.store.artefact(u.artefact).object) for u in built.units]
            program = work / built.build.name.replace(":", "-")
            subprocess.run(
                [compiler, "-O2", "-w", f"-I{NATIVE}", str(HERE / "checking.c"),
                 str(work / "shim.c"), *objects, "-lm", "-o", str(program)],
                check=True,
            )  # fmt: skip
            commands.append([str(program), str(work / "inputs"), str(work / "expected")])
    return commands


def timed(*commands: list[str]) -> float:
    """Return the seconds that all commands take, one after the other."""
    start = time.perf_counter()
    for command in commands:
        subprocess.run(command, check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - start


def without_findings(folder: Path) -> None:
    """Forget what checks found, and keep what was compiled and linked."""
    for kept in (folder / ".hot-anvil" / "artefacts").glob("*/derived.json"):
        shutil.rmtree(kept.parent)


def compare(title: str, elements: int) -> None:
    """Print the ratios for the demo with buffers of so many elements."""
    with tempfile.TemporaryDirectory() as name:
        demo, side = Path(name) / "demo", Path(name) / "c"
        shutil.copytree(DEMO, demo)
        bench = demo / "anvil.toml"
        bench.write_text(re.sub(r"\b4096\b", str(elements), bench.read_text()))
        side.mkdir()
        check = [str(COMMAND), "check", str(demo)]
        nothing = [sys.executable, "-c", "import numpy"]
        timed(check)
        by_hand = programs(open_bench(demo), side)
        timed(*by_hand)
        rows: dict[str, list[float]] = {"first time": [], "checked before": [], "start": []}
        hand = []
        for _ in range(RUNS):
            hand.append(timed(*by_hand))
            rows["checked before"].append(timed(check))
            without_findings(demo)
            rows["first time"].append(timed(check))
            rows["start"].append(timed(nothing))
        print(f"{title}: {len(by_hand)} C programs, {os.cpu_count()} CPUs, {RUNS} runs in turns")
        for label, times in rows.items():
            ratios = [t / h for t, h in zip(times, hand, strict=True)]
            text = label if label != "start" else "(python -c 'import numpy' alone)"
            print(f"  {text:34} {statistics.median(ratios):5.1f}x of the C programs")


def main() -> None:
    """Print the ratios for the demo as it is, and where the calls take their time."""
    compare("the demo", 4096)
    compare("the demo with 1,000,000 elements", 1_000_000)


if __name__ == "__main__":
    main()
