"""Take the pictures in docs/screenshots: real commands on the demo bench in a real terminal.

    python tools/screenshots.py [NAME ...]

Needs xterm, Xvfb and ImageMagick (on Debian: apt install xterm xvfb imagemagick
fonts-dejavu-core). Each scene is a command line; the terminal shows it, runs it
and is photographed when it is done.
"""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs" / "screenshots"
BIN = Path(sys.executable).parent
DISPLAY = ":87"
COLUMNS = 104
SIZES: dict[str, tuple[int, int]] = {
    "diff": (52, 9),
    "facts": (52, 9),
    "ledger": (44, 10),
    "pick": (47, 10),
    "chip": (62, 8),
    "check": (55, 8),
    "parting": (60, 7),
    "kernels": (58, 8),
}  # rows and points, where a scene needs other than these:
ROWS, POINTS = 42, 11

SCENES = {
    "compile": "hot-anvil compile tide-gauge --snippet frame --snippet feet --prove",
    "listing": "hot-anvil listing tide-gauge gcc:fast --entry crossings_signed",
    "linked": "hot-anvil listing tide-gauge gcc:lean --entry crossings_signed --view linked "
    "--syntax intel",
    "chip": "hot-anvil hotspots chip avr-gcc:lean --entry sum_fold; hot-anvil measure chip "
    "--snippet sum; hot-anvil pins chip/clock.c --pin PB0 --build 'avr-gcc -Os -mmcu=atmega328p'",
    "diff": "hot-anvil diff tide-gauge gcc:lean gcc:fast --entry crossings_mixed",
    "entries": "hot-anvil diff tide-gauge crossings_signed@gcc:fast crossings_mixed@gcc:fast",
    "ledger": "hot-anvil ledger tide-gauge gcc:plain gcc:lean gcc:fast clang:fast --snippet clamp",
    "facts": "hot-anvil facts tide-gauge gcc:plain gcc:fast clang:wide --entry clamp_select; "
    "hot-anvil facts tide-gauge/pause.c --build 'avr-gcc -O0' --build 'avr-gcc -Os' "
    "--entry pause_gauge",
    "frame": "hot-anvil frame tide-gauge gcc:plain --entry crossings_signed; "
    "hot-anvil frame tide-gauge gcc:lean --entry crossings_signed",
    "check": "hot-anvil check tide-gauge --snippet checksum --snippet log",
    "step": "hot-anvil step tide-gauge gcc:lean --entry crossings_signed --passes 2",
    "parting": "hot-anvil step tide-gauge crossings_signed@gcc:plain crossings_mixed@gcc:plain",
    "kernels": "hot-anvil launch gpu year_clamp@nvcc:plain --scheduler spread --scheduler packed "
    "--processors 3; "
    "hot-anvil step gpu year_mean@nvcc:plain --warp 1 --at 18 --limit 4",
    "measure": "hot-anvil measure tide-gauge --snippet crossings --count",
    "hotspots": "hot-anvil hotspots tide-gauge gcc:lean --entry crossings_signed; "
    "hot-anvil hotspots tide-gauge gcc:lean clang:lean --entry clamp_branch",
    "history": "hot-anvil measure tide-gauge --snippet crossings --build 'gcc -O2' "
    "--build 'clang -O2' --earlier; hot-anvil history tide-gauge 'crossings_signed@gcc-12 -O2'",
    "pick": "hot-anvil pick tide-gauge --snippet checksum",
    "toolchains": "hot-anvil toolchains; hot-anvil start --example",
    "errors": "hot-anvil diff tide-gauge gcc:plain gcc:fsat; hot-anvil check tide-gauge/clamp.c "
    "--build 'gcc -O2' --entry clamp_branch --inputs 'low = -200'",
}


# What is run before, unseen.
BEFORE = {
    # Only what runs on chips, so that one picture holds it all.
    "chip": 'sed -i \'s/^toolchains = .*/toolchains = ["avr-gcc", "clang-16@msp430"]/; '
    's/^reference.*//; s/^flags  .*/flags = ["lean"]/; s/^except.*//\' chip/anvil.toml',
    "history": "hot-anvil measure tide-gauge --snippet crossings --build 'gcc -O2' "
    "--build 'clang -O2'; "
    "sed -i '9,10s/if (\\(.*\\))$/count += \\1;/; 10d' tide-gauge/crossings.c",
}


def main() -> int:
    """Take the named scenes, all when none is named."""
    for tool in ("xterm", "Xvfb", "import"):
        if not shutil.which(tool):
            print(f"{tool} is missing (on Debian: apt install xterm xvfb imagemagick)")
            return 3
    wanted = sys.argv[1:] or list(SCENES)
    OUT.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
    try:
        time.sleep(1)
        for name in wanted:
            with tempfile.TemporaryDirectory() as folder:  # its own: some scenes edit the bench
                demo = ROOT / "src" / "hot_anvil" / "data" / "demo"
                shutil.copytree(demo, Path(folder, "tide-gauge"))
                for name_of in ("chip", "gpu"):
                    shutil.copytree(demo.with_name(name_of), Path(folder, name_of))
                take(name, Path(folder))
                print(f"docs/screenshots/{name}.png")
    finally:
        screen.terminate()
        screen.wait()
    return 0


def take(name: str, folder: Path) -> None:
    """Show one scene in a terminal and photograph it."""
    done = folder / f"{name}.done"
    path = f"{BIN}:{os.environ['PATH']}"
    if name in BEFORE:
        subprocess.run(
            BEFORE[name], shell=True, cwd=folder, env={**os.environ, "PATH": path},
            stdout=subprocess.DEVNULL, check=True,
        )  # fmt: skip
    typed = SCENES[name]
    rows, points = SIZES.get(name, (ROWS, POINTS))
    script = (
        f"clear; printf '$ %s\\n\\n' {shlex.quote(typed)}; {typed}; touch {done.name}; sleep 60"
    )
    env = {**os.environ, "DISPLAY": DISPLAY, "PATH": path}
    env.pop("NO_COLOR", None)
    terminal = subprocess.Popen(
        ["xterm", "-tn", "xterm-256color", "-geometry", f"{COLUMNS}x{rows}+0+0",
         "-fa", "DejaVu Sans Mono", "-fs", str(points), "-bg", "white", "-fg", "black",
         "-b", "12", "-e", "bash", "-c", script],
        cwd=folder, env=env,
    )  # fmt: skip
    try:
        deadline = time.monotonic() + 300
        while not done.exists() and time.monotonic() < deadline:
            time.sleep(0.2)
        time.sleep(0.7)
        picture = OUT / f"{name}.png"
        shot = ["import", "-window", "root", "-trim", "-colors", "32", "-strip", str(picture)]
        subprocess.run(shot, env=env, check=True)
    finally:
        terminal.terminate()
        terminal.wait()


if __name__ == "__main__":
    sys.exit(main())
