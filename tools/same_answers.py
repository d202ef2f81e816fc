"""Tell whether two checkouts give the same answers: JSON of every command, compared field by field.

    python tools/same_answers.py take FOLDER HOT_ANVIL [SOURCE ...]
    python tools/same_answers.py compare BEFORE AFTER

``take`` runs every command of one installed command on the demo, the pitfalls and the sources
given, in fresh copies under FOLDER, and keeps each answer. ``compare`` reports every field that
differs once the renamed ones (RENAMED) are brought into line. Times and what follows from them are
not compared; of measurements the fields and what was measured are.
"""

import json
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

# What the later format calls otherwise: command, then fields of documents.
COMMANDS = {"bench": "measure"}
RENAMED: dict[str, str] = {
    "looks": "samples",
    "standings": "summaries",
    "likeness": "code_identity",
    "same_code_as": "same_code_as",
}
RENAMED_VALUES: dict[str, str] = {"bench": "measure"}
BUILDS = ["gcc -O1", "gcc -O2", "clang -O2"]
CHIPS = [
    "avr-gcc -Os -mmcu=atmega328p",
    "riscv64-linux-gnu-gcc -O2",
    "aarch64-linux-gnu-gcc -O2",
    "arm-none-eabi-gcc -O2 -mcpu=cortex-m4",
    "clang-16@msp430 -Os",
]
# Fields whose values a clock, a random order or a path decides.
VOLATILE = {
    "seconds",
    "fresh",
    "at",
    "number",
    "machine",
    "again",
    "hot_anvil",
    "environment",
    "smallest",
    "smallest_why",
    "tally",
    "error",
}
TIMED = {"bench", "measure", "pick", "hotspots", "history"}


def take(folder: Path, tool: str, sources: list[str]) -> None:
    """Run every command and keep its answer as FOLDER/answers/NAME.json."""
    work, answers = folder / "work", folder / "answers"
    answers.mkdir(parents=True, exist_ok=True)
    work.mkdir(parents=True, exist_ok=True)
    for name, command in scenes(work, tool, sources).items():
        target = answers / f"{name}.json"
        if target.exists():
            continue
        done = subprocess.run(command, cwd=work, capture_output=True, text=True, timeout=1200)
        text = done.stdout
        try:
            document = json.loads(text) if text else None
        except ValueError:
            document = text
        kept = {"exit": done.returncode, "stderr": done.stderr[-400:], "document": document}
        target.write_text(json.dumps(kept, indent=1))
        sys.stdout.write(f"{name}: exit {done.returncode}, {len(text)} bytes\n")
        sys.stdout.flush()


def scenes(work: Path, tool: str, sources: list[str]) -> dict[str, list[str]]:
    """Return the command lines by name; lays out the benches that they work on."""
    base = Path(__file__).parent.parent / "src/hot_anvil/data"
    for name in ("demo", "pitfalls"):
        if not (work / name).exists():
            shutil.copytree(base / name, work / name)
    measure = "measure" if "measure" in help_of(tool) else "bench"
    out: dict[str, list[str]] = {"toolchains": ["toolchains"]}
    for bench in ("demo", "pitfalls"):
        first, second = ("gcc:lean", "gcc:fast") if bench == "demo" else ("gcc:plain", "gcc:even")
        out |= {
            f"{bench}-compile": ["compile", bench],
            f"{bench}-listing": ["listing", bench, second],
            f"{bench}-linked": ["listing", bench, first, "--view", "linked", "--words"],
            f"{bench}-intel": ["listing", bench, second, "--syntax", "intel"],
            f"{bench}-diff": ["diff", bench, first, second],
            f"{bench}-diff-clang": ["diff", bench, second, "clang:fast", "--words"],
            f"{bench}-ledger": ["ledger", bench],
            f"{bench}-facts": ["facts", bench, "--evidence"],
            f"{bench}-frame": ["frame", bench, first],
            f"{bench}-used": ["explain", bench, "--used", second],
            f"{bench}-check": ["check", bench],
        }
    out["demo-expect"] = ["expect", "demo"]
    out["explain"] = ["explain", "add", "mov", "lw", "ldr", "cmovl", "bne"]
    some = ["demo", "--snippet", "clamp", "--seconds", "3", "--seed", "7"]
    out["demo-measure"] = [measure, *some, "--count"]
    out["demo-pick"] = ["pick", *some]
    out["demo-hotspots"] = ["hotspots", "demo", "gcc:fast", "--entry", "clamp_branch"]
    out["demo-history"] = ["history", "demo"]
    for source in sources:
        path = Path(source).resolve()
        stem = re.sub(r"\W", "_", path.stem)
        builds = [word for build in BUILDS for word in ("--build", build)]
        flags = [
            f"-I{folder}" for folder in sorted({str(p.parent) for p in path.parent.rglob("*.h")})
        ]
        builds = [" ".join([word, *flags]) if word != "--build" else word for word in builds]
        named = [word for word in builds if word != "--build"]
        out |= {
            f"{stem}-compile": ["compile", str(path), *builds],
            f"{stem}-listing": ["listing", str(path), named[1], *builds],
            f"{stem}-diff": ["diff", str(path), named[0], named[1], *builds],
            f"{stem}-diff-clang": ["diff", str(path), named[1], named[2], *builds],
            f"{stem}-ledger": ["ledger", str(path), *builds],
            f"{stem}-facts": ["facts", str(path), *builds],
            f"{stem}-frame": ["frame", str(path), named[0], *builds],
        }
    for chip in CHIPS:
        stem = chip.split()[0].replace("@", "_")
        source, level = "demo/clamp.c", chip.replace("-Os", "-O1").replace("-O2", "-O1")
        out[f"chip-{stem}-diff"] = [
            "diff",
            source,
            level,
            chip,
            "--build",
            chip,
            "--build",
            level,
            "--words",
        ]
        out[f"chip-{stem}-facts"] = ["facts", source, "--build", chip, "--build", level]
        out[f"chip-{stem}-frame"] = ["frame", source, level, "--build", level]
    return {name: [tool, *words, "--format", "json"] for name, words in out.items()}


def help_of(tool: str) -> str:
    """Return the tool's overview."""
    return subprocess.run([tool, "--help"], capture_output=True, text=True).stdout


def compare(before: Path, after: Path) -> int:
    """Print where the answers differ; return how many do."""
    differing = fields = 0
    for old in sorted((before / "answers").glob("*.json")):
        new = after / "answers" / old.name
        if not new.exists():
            sys.stdout.write(f"{old.name}: missing\n")
            differing += 1
            continue
        timed = any(word in old.stem for word in TIMED)
        told = [
            normal(json.loads(file.read_text()), timed, str(root))
            for file, root in ((old, before), (new, after))
        ]
        fields += count(told[0])
        found = differences(told[0], told[1], "")
        differing += bool(found)
        for line in found[:6]:
            sys.stdout.write(f"{old.name}: {line}\n")
        if len(found) > 6:
            sys.stdout.write(f"{old.name}: and {len(found) - 6} more\n")
    total = len(list((before / "answers").glob("*.json")))
    sys.stdout.write(f"{total - differing} of {total} answers equal, {fields} values compared\n")
    return differing


def count(value: Any) -> int:
    """Return how many plain values a document holds."""
    if isinstance(value, dict):
        return sum(count(item) for item in value.values())
    if isinstance(value, list):
        return sum(count(item) for item in value)
    return 1


def normal(value: Any, timed: bool, root: str) -> Any:
    """Return a document with renamed fields in line and volatile values masked."""
    if isinstance(value, dict):
        out = {}
        for key, item in value.items():
            name = RENAMED.get(key, key)
            out[name] = None if key in VOLATILE else normal(item, timed, root)
        return out
    if isinstance(value, list):
        if timed:  # which lines were seen, and how many generations there were, is chance
            return [normal(value[0], timed, root)] if value else []
        return [normal(item, timed, root) for item in value]
    if timed and not isinstance(value, bool):
        return type(value).__name__ if value is None else "value"
    if isinstance(value, str):
        return RENAMED_VALUES.get(value, re.sub(r"0x[0-9a-f]{6,}", "0x", value.replace(root, "")))
    return value


def differences(old: Any, new: Any, at: str) -> list[str]:
    """Return where two normal documents differ."""
    if isinstance(old, dict) and isinstance(new, dict):
        out = [f"{at}.{key}: gone" for key in old if key not in new]
        out += [f"{at}.{key}: new" for key in new if key not in old]
        return out + [d for k in old if k in new for d in differences(old[k], new[k], f"{at}.{k}")]
    if isinstance(old, list) and isinstance(new, list):
        if len(old) != len(new):
            return [f"{at}: {len(old)} items, now {len(new)}"]
        return [
            d
            for i, pair in enumerate(zip(old, new, strict=True))
            for d in differences(*pair, f"{at}[{i}]")
        ]
    return [] if old == new else [f"{at}: {old!r}, now {new!r}"]


if __name__ == "__main__":
    if sys.argv[1] == "take":
        take(Path(sys.argv[2]), sys.argv[3], sys.argv[4:])
    else:
        sys.exit(min(compare(Path(sys.argv[2]), Path(sys.argv[3])), 1))
