"""Are the sets that ``narrow`` finds right and small, and what do they cost?

    python benchmarks/narrowing.py [FILE:ENTRY[:FLAGS] ...]

From gcc -O2 to gcc -O3 -march=native, for entries of the demo and those named. Each set is tried
again by hand: gcc is called with it, and the entry's bytes are compared with those of the goal;
then without each of its flags. Exits 1 where a set does not make the bytes, can be smaller, or took
more than 60 compiles.
"""

import io
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from elftools.elf.elffile import ELFFile

from hot_anvil.api import open_source
from hot_anvil.core.flags.records import Narrowed, with_changes
from hot_anvil.core.flags.words import parted

DEMO = Path(__file__).parent.parent / "src" / "hot_anvil" / "data" / "demo"
COMPILER, LEFT, RIGHT = "gcc", ("-O2",), ("-O3", "-march=native")
MOST = 60  # compiles
OWN = (
    ("clamp.c", "clamp_branch"), ("clamp.c", "clamp_select"), ("crossings.c", "crossings_signed"),
    ("crossings.c", "crossings_mixed"), ("checksum.c", "checksum_careful"),
    ("frame_step.c", "crc_step"),
)  # fmt: skip


def bytes_by_hand(file: Path, flags: tuple[str, ...], entry: str) -> bytes:
    """Return the bytes of a function as the compiler alone makes them."""
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder, "made.o")
        command = [COMPILER, *flags, "-g1", "-c", file.name, "-o", str(made)]
        subprocess.run(command, cwd=file.parent, check=True, capture_output=True)
        elf = ELFFile(io.BytesIO(made.read_bytes()))
        (symbol,) = elf.get_section_by_name(".symtab").get_symbol_by_name(entry)
        section = elf.get_section(symbol["st_shndx"])
        start = symbol["st_value"]
        return bytes(section.data()[start : start + symbol["st_size"]])


def faults(file: Path, one: Narrowed, always: tuple[str, ...]) -> list[str]:
    """Return what is wrong with a set: it does not make the code, or could be smaller."""
    if one.fault:
        return [one.fault]
    goal = bytes_by_hand(file, (*RIGHT, *always), one.symbol)
    out = [] if one.compiles <= MOST else [f"{one.compiles} compiles"]
    if bytes_by_hand(file, one.flags, one.symbol) != goal:
        out.append("other bytes")
    changes = [needed.change for needed in one.needed]
    for change in changes:
        rest = with_changes((*LEFT, *always), [c for c in changes if c != change])
        # Equal bytes may still call something else: the tool itself looks at that too.
        if bytes_by_hand(file, rest, one.symbol) == goal:
            out.append(f"{change.name} may be needless")
    return out


def main(words: list[str]) -> int:
    wanted: list[tuple[Path, str, tuple[str, ...]]] = [(DEMO / f, e, ()) for f, e in OWN]
    for word in words:
        path, entry, *more = word.split(":")
        flags = tuple(w for flag in parted((more[0] if more else "").split(), "cc") for w in flag)
        wanted.append((Path(path).resolve(), entry, flags))
    wrong = 0
    for file, entry, always in wanted:
        builds = [" ".join((COMPILER, *flags, *always)) for flags in (LEFT, RIGHT)]
        began = time.monotonic()
        anvil = open_source(file, builds)
        names = [build.name for build in anvil.builds]
        (one,) = anvil.narrow(names[0], names[1], (), [entry])
        seconds = time.monotonic() - began
        found = [] if one.same else faults(file, one, always)
        wrong += bool(found)
        told = "the same code" if one.same else " ".join(n.change.name for n in one.needed)
        print(f"{entry:28} {one.pool:3} differences {one.compiles:3} compiles {seconds:5.1f} s  "
              f"{told}{'  WRONG: ' if found else ''}{', '.join(found)}", flush=True)  # fmt: skip
    return int(wrong > 0)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
