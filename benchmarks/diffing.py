"""What a comparison costs: a large source at -O1 against -O2, beside compiling both.

Writes a source of made-up gauge functions of the size asked for, compiles it
under both builds, then runs ``hot-anvil diff`` on what is compiled already, in
a process of its own. Prints its time as a share of the compilers', and its
largest memory.

    python benchmarks/diffing.py [LINES] [COMPILER]
"""

import random
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

COMMAND = Path(sys.executable).parent / "hot-anvil"
SEED = 41

# Each makes one function of about twenty lines; {n} numbers it, {a} to {d} are constants.
TEMPLATES = (
    """int gauge_{n}(const int *level, int n, int low)
{{
    int sum = 0, over = 0;
    for (int i = 0; i < n; i++) {{
        int v = level[i] - low;
        if (v > {a})
            over++;
        else if (v < -{b})
            v = -{b};
        sum += v * {c};
        if (sum > {d} * 1000)
            sum -= over;
    }}
    if (over > {a})
        return sum / {d};
    return sum + over;
}}
""",
    """unsigned frame_{n}(const unsigned char *byte, unsigned size, unsigned seed)
{{
    unsigned crc = seed ^ {a};
    while (size--) {{
        crc ^= *byte++;
        for (int k = 0; k < 8; k++) {{
            if (crc & 1)
                crc = (crc >> 1) ^ {b}{c}u;
            else
                crc >>= 1;
        }}
    }}
    if (crc % {d} == 0)
        crc += {c};
    return crc ^ (crc >> {k});
}}
""",
    """struct tide_{n} {{ int level[{k}]; short quality; unsigned at; }};
int keep_{n}(struct tide_{n} *tide, int value, unsigned at)
{{
    for (int i = {k} - 1; i > 0; i--)
        tide->level[i] = tide->level[i - 1];
    tide->level[0] = value;
    if (at - tide->at > {a})
        tide->quality = 0;
    else if (tide->quality < {b})
        tide->quality++;
    tide->at = at;
    switch (tide->quality) {{
    case 0: return {c};
    case 1: return value + {d};
    case 2: return value * {a};
    case 3: return value / {b};
    case 4: return value % {d};
    default: return value;
    }}
}}
""",
    """double mean_{n}(const double *level, const double *weight, int n)
{{
    double sum = 0.0, all = 0.0;
    for (int i = 0; i < n; i++) {{
        double w = weight[i] * {a}.5;
        if (level[i] > {b}.0 && w > 0.25)
            w = w / {c}.0;
        sum += level[i] * w;
        all += w;
    }}
    if (all < 1.0 / {d})
        return {a}.0;
    return sum / all;
}}
""",
    """static int step_{n}(int level, int by) {{ return level * {a} + by / {b}; }}
int walk_{n}(int *out, int n, int start, int (*more)(int))
{{
    int level = start;
    for (int i = 0; i < n; i++) {{
        level = step_{n}(level, i);
        if (level > {c}{d})
            level = more(level);
        else
            level = step_{n}(level, {d});
        out[i] = level;
        out[n - 1 - i] += level >> {k};
    }}
    if (more(level) == {a})
        return step_{n}(level, {b});
    return level;
}}
""",
)


def write_source(path: Path, lines: int) -> None:
    """Write a source of at least this many lines, the same on every run."""
    chance = random.Random(SEED)
    parts: list[str] = []
    count = 0
    while count < lines:
        numbers = {name: chance.randint(3, 97) for name in "abcd"}
        text = chance.choice(TEMPLATES).format(n=len(parts), k=chance.randint(3, 12), **numbers)
        parts.append(text)
        count += text.count("\n")
    path.write_text("\n".join(parts))


def run(*words: str | Path) -> float:
    """Run a command and return its seconds."""
    began = time.perf_counter()
    subprocess.run([str(word) for word in words], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def main(words: list[str]) -> None:
    """Compile, compare, print."""
    lines = int(words[0]) if words else 50_000
    compiler = words[1] if len(words) > 1 else "gcc"
    with tempfile.TemporaryDirectory() as name:
        source = Path(name, "gauges.c")
        write_source(source, lines)
        builds = [f"{compiler} -O1", f"{compiler} -O2"]
        seconds = 0.0
        text_lines = []
        for build in builds:
            out = Path(name, "out.s")
            seconds += run(*build.split(), "-g1", "-S", source, "-o", out)
            text_lines.append(out.read_text().count("\n"))
        options = [word for build in builds for word in ("--build", build)]
        run(COMMAND, "compile", source, *options)
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        spent = run(COMMAND, "diff", source, *options, "--out", Path(name, "diff.txt"))
        shown = Path(name, "diff.txt").read_text().split("\n")
        print(f"{source.read_text().count(chr(10))} lines of source, {text_lines} of assembly")
        print(f"compilers alone {seconds:.1f} s, diff {spent:.1f} s: {spent / seconds:.1%}")
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        print(
            f"largest memory of a command {peak / 1e6:.2f} GB ({before / 1e6:.2f} before the diff)"
        )
        print("\n".join(shown[:9]))


if __name__ == "__main__":
    main(sys.argv[1:])
