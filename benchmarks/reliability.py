"""Does a command lose, blame or touch anything when the machine or the bench is against it?

    python benchmarks/reliability.py [--class NAME] [--most N] [--seed N]

Tries, on a copy of the demo bench: damages of kept files, kills and interrupts at random moments,
several commands at once, a full disk (where root allows a small tmpfs), limits of descriptors,
processes and address space, malformed benches, and odd names. A try fails when a command ends in a
fault or a traceback, hangs, or gives another verdict than the undisturbed one. Prints tried and
failing per class; returns 1 where anything failed.
"""

import argparse
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
COMMAND = [str(Path(sys.executable).parent / "hot-anvil")]
CHECK = ["check", "--snippet", "clamp", "--snippet", "checksum", "--format", "json"]
PATIENCE = 180.0  # seconds
FAULT = 70


class Outcome(NamedTuple):
    """What one command came to."""

    code: int
    verdicts: tuple[tuple[str, str], ...] | None  # candidate and verdict, None without an answer
    whys: tuple[str, ...]  # of the verdicts, and of snippets that could not be checked
    said: str

    @property
    def faulty(self) -> bool:
        """Whether it ended as no command may."""
        return self.code == FAULT or "Traceback" in self.said


def run(folder: Path, words: list[str] = CHECK, shell: str = "", **env: str) -> Outcome:
    """Run a command in a bench; ``shell`` is done before it, such as a limit."""
    argv = [*COMMAND, *words]
    if shell:
        argv = ["bash", "-c", f'{shell}; exec "$@"', "bash", *argv]
    try:
        done = subprocess.run(
            argv, cwd=folder, capture_output=True, text=True, timeout=PATIENCE, check=False,
            env={**os.environ, **env},
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return Outcome(FAULT, None, (), f"no end within {PATIENCE:g} s")
    return Outcome(done.returncode, *answer_of(done.stdout), done.stderr)


Answer = tuple[tuple[tuple[str, str], ...] | None, tuple[str, ...]]


def answer_of(text: str) -> Answer:
    """Return the verdicts of a document, None where there is no whole one, and why they are so."""
    try:
        found = json.loads(text)
    except ValueError:
        return None, ()
    rows = found.get("verdicts", ())
    whys = dict.fromkeys([*(v["why"] for v in rows), *(f["why"] for f in found["faults"])])
    return tuple((v["candidate"], v["verdict"]) for v in rows), tuple(filter(None, whys))


def unlike(fine: Outcome, got: Outcome) -> str:
    """Return how an answer differs from the undisturbed one, "" where it does not."""
    if got[:2] == fine[:2] and not got.faulty:
        return ""
    known = dict(fine.verdicts or ())
    other = [f"{c}: {v}" for c, v in got.verdicts or () if known.get(c) != v]
    whys = [why for why in got.whys if why not in fine.whys]
    return f"exit code {got.code}; {other[:3]}; {whys[:3]}; {got.said}"


def demo(folder: Path) -> Path:
    """Return a fresh copy of the demo bench."""
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(ROOT / "src" / "hot_anvil" / "data" / "demo", folder)
    return folder


def spared(fine: Outcome, got: Outcome, what: str) -> str:
    """Return "" where a command gave the same verdicts, or none and said so; else what is wrong."""
    known = dict(fine.verdicts or ())
    same = all(known.get(candidate) == verdict for candidate, verdict in got.verdicts or ())
    whole = len(got.verdicts or ()) == len(known)
    return "" if same and (whole or got.code) and not got.faulty else f"{what}: {unlike(fine, got)}"


Try = Callable[[Path, random.Random], Iterator[str]]  # gives a text for each try, "" when fine


def damages(folder: Path, chance: random.Random) -> Iterator[str]:
    """One kept file after the other is cut, emptied, overwritten or removed."""
    bench = demo(folder)
    fine = run(bench)
    while True:
        kept = [p for p in (bench / ".hot-anvil").rglob("*") if p.is_file()]
        file = chance.choice(kept)
        how = damage(file, chance)
        got = run(bench)
        name = file.relative_to(bench)
        said = unlike(fine, got)
        yield said and f"{how} {name}: {said}"


def damage(file: Path, chance: random.Random) -> str:
    """Damage a file; return how."""
    data = file.read_bytes()
    at = chance.randrange(len(data) + 1)
    how = chance.choice(["cut", "zeros", "one bit", "emptied", "gone", "overwritten"])
    made = {
        "cut": data[:at],
        "zeros": data[:at] + bytes(len(data[at : at + 64])) + data[at + 64 :],
        "one bit": data[:at] + bytes(b ^ 1 for b in data[at : at + 1]) + data[at + 1 :],
        "emptied": b"",
        "overwritten": chance.randbytes(max(len(data), 8)),
    }
    if how == "gone":
        file.unlink()
    else:
        file.write_bytes(made[how])
    return how


def kills(folder: Path, chance: random.Random) -> Iterator[str]:
    """A command is interrupted or killed at a random moment, early ones among them."""
    bench = demo(folder)
    fine = run(bench)
    commands = [CHECK, ["compile"], ["diff", ".", "gcc:plain", "gcc:fast"], ["facts"],
                ["measure", "--snippet", "clamp", "--seconds", "0.05"]]  # fmt: skip
    while True:
        if chance.random() < 0.3:
            shutil.rmtree(bench / ".hot-anvil", ignore_errors=True)
        how = chance.choice([signal.SIGINT, signal.SIGKILL, signal.SIGTERM])
        process = subprocess.Popen(
            [*COMMAND, *chance.choice(commands)], cwd=bench, text=True,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip
        time.sleep(chance.choice([chance.uniform(0.02, 0.5), chance.uniform(0.5, 6)]))
        process.send_signal(how)
        _, said = process.communicate()
        after = run(bench)
        left = list((bench / ".hot-anvil" / "work").glob("*"))
        # Python tells an interrupt of its own start, before any line of ours, by itself.
        ours = "Traceback" in said and "hot_anvil" in said
        fault = ours or unlike(fine, after) or bool(left)
        yield f"{how.name}: {said[-200:]} {unlike(fine, after)} {left}" if fault else ""


def at_once(folder: Path, chance: random.Random) -> Iterator[str]:
    """Two or four commands work on one store at once."""
    bench = demo(folder)
    fine = run(bench)
    while True:
        shutil.rmtree(bench / ".hot-anvil", ignore_errors=True)
        many = [
            subprocess.Popen([*COMMAND, *CHECK], cwd=bench, text=True,
                             stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            for _ in range(chance.choice([2, 4]))
        ]  # fmt: skip
        ended = [(*process.communicate(), process.returncode) for process in many]
        got = [Outcome(code, *answer_of(o), e) for o, e, code in ended]
        yield "; ".join(filter(None, (unlike(fine, one) for one in got)))


def full_disk(folder: Path, chance: random.Random) -> Iterator[str]:
    """The disk that the store is on fills up, at a size drawn."""
    fine = run(demo(folder))
    place = folder.parent / "small"
    place.mkdir(exist_ok=True)
    while True:
        size = chance.randrange(200, 24_000)
        mounted = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={size}k", "tmpfs", str(place)], check=False,
            capture_output=True,
        )  # fmt: skip
        if mounted.returncode:
            return  # only root can
        try:
            bench = demo(place / "bench")
            got = run(bench)
        except OSError:  # not even the bench fits
            yield ""
            continue
        finally:
            subprocess.run(["umount", "-l", str(place)], check=False)
        yield spared(fine, got, f"{size} KiB")


def limits(folder: Path, chance: random.Random) -> Iterator[str]:
    """Descriptors, files and memory are limited: too few of them are never the code's fault."""
    bench = demo(folder)
    fine = run(bench)
    while True:
        shutil.rmtree(bench / ".hot-anvil", ignore_errors=True)
        shell = chance.choice(
            [f"ulimit -n {chance.randrange(8, 100)}", f"ulimit -f {chance.randrange(8, 4000)}",
             f"ulimit -v {chance.randrange(100_000, 3_000_000)}"]
        )  # fmt: skip
        got = run(bench, shell=shell)
        yield spared(fine, got, shell)


HEAD = '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["ebb.c"]\n'
KEYS = ("inputs = {{ x = {0} }}", "sweep = {{ n = {0} }}", "tolerance = {{ ulp = {0} }}",
        "per = {0}", "share = {0}", "threads = {0}", "entries = {0}", "name = {0}",
        "link_flags = {0}", "not_promised = {{ empty = {0} }}", "packages = {0}",
        "inputs = {{ x = {{ fill = {0}, count = 3 }} }}",
        "inputs = {{ x = {{ fill = 'zeros', count = {0} }} }}",
        "[[snippet.case]]\nexpected = {{ returns = {0} }}")  # fmt: skip
VALUES = ("nan", "inf", "-1", "1e400", "9" * 60, "9" * 5000, '"a\\u0000b"', "true", "2020-01-01",
          '"' + "+".join(["1"] * 9000) + '"', '"' + "(" * 900 + ")" * 900 + '"',
          "[" * 400 + "]" * 400, "{a=" * 60 + "1" + "}" * 60, '"2**9999999"', '"1//0"',
          '"__import__(1)"', "[]", '""', '"\\u001b[31m"', '"uniform(nan, 1)"', '"normal(0, -1)"',
          '"choice()"')  # fmt: skip


def malformed(folder: Path, chance: random.Random) -> Iterator[str]:
    """Every key of a bench gets values that it must not have."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "ebb.c").write_text("int ebb(int x) { return x; }\n")
    while True:
        text = HEAD + chance.choice(KEYS).format(chance.choice(VALUES)) + "\n"
        (folder / "anvil.toml").write_text(text)
        got = run(folder, ["check"])
        yield f"{text[-120:]}: {got}" if got.faulty or len(got.said) > 3000 else ""


ODD = (
    " ",
    "'",
    '"',
    ";",
    "$(d)",
    "&",
    "\n",
    "\t",
    "-o",
    "#",
    "%s",
    "ä",
    "\u202e",
    "*",
    "[a]",
    "\\",
)


def odd_names(folder: Path, chance: random.Random) -> Iterator[str]:
    """Sources and folders have names that shells, compilers and TOML make something of."""
    while True:
        name = "e" + "".join(chance.choices(ODD, k=chance.randrange(1, 4)))
        bench = folder / f"quay{chance.choice(ODD)}"
        shutil.rmtree(bench, ignore_errors=True)
        bench.mkdir(parents=True)
        (bench / f"{name}.c").write_text("int ebb(int x) { return x; }\n")
        head = HEAD.replace('"ebb.c"', json.dumps(f"{name}.c"))
        (bench / "anvil.toml").write_text(head + "name = 'ebb'\ninputs = { x = 3 }\n")
        got = run(bench, ["check", "--format", "json"])
        raw = any(ord(c) < 32 and c not in "\n\t" for c in got.said)
        fine = got.verdicts is not None and {v for _, v in got.verdicts} == {"correct"}
        yield "" if fine and not got.faulty and not raw else f"{name!r}: {got}"


CLASSES: dict[str, tuple[Try, int]] = {
    "damages": (damages, 150), "kills": (kills, 60), "at once": (at_once, 10),
    "full disk": (full_disk, 20), "limits": (limits, 30), "malformed": (malformed, 100),
    "odd names": (odd_names, 60),
}  # fmt: skip


def main() -> int:
    """Print tried and failing per class; return 1 where anything failed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--class", dest="only", action="append", choices=CLASSES, default=[])
    parser.add_argument("--most", type=int, default=1 << 30, help="tries of each class at most")
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    failing = 0
    with tempfile.TemporaryDirectory() as folder, suppress(KeyboardInterrupt):
        for name in args.only or CLASSES:
            attempt, tries = CLASSES[name]
            tries = min(tries, args.most)
            place = Path(folder, name.replace(" ", "-"), "bench")
            told = []
            for said, _ in zip(
                attempt(place, random.Random(args.seed)), range(tries), strict=False
            ):
                told.append(said)
            bad = [said for said in told if said]
            failing += len(bad)
            print(f"{name:<12}{len(told):>5} tried{len(bad):>5} failing", flush=True)
            for said in bad:
                print(f"    {said[:600]}", flush=True)
    return int(failing > 0)


if __name__ == "__main__":
    sys.exit(main())
