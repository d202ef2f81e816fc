"""Take the pictures in docs/screenshots: real commands on the demo bench in a real terminal.

    python tools/screenshots.py [NAME ...]

Needs xterm, Xvfb, ImageMagick and Chromium (on Debian: apt install xterm xvfb imagemagick
fonts-dejavu-core chromium chromium-driver). Each scene is a command line; the terminal shows it,
runs it and is photographed when it is done. The page is photographed in the browser, at its top
and at a line that is opened; figures are tiled.
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
    "step": (68, 7),
    "stages": (58, 8),
    "watch": (46, 10),
    "kernels": (58, 8),
    "whatif": (68, 7),
    "listing": (60, 8),
    "fleet": (68, 7),
}  # rows and points, where a scene needs other than these:
ROWS, POINTS = 42, 11

SCENES = {
    "compile": "hot-anvil compile tide-gauge --snippet frame --snippet feet --prove",
    "listing": "hot-anvil listing tide-gauge gcc:fast --entry crossings_signed; "
    "hot-anvil frame tide-gauge gcc:plain --entry crossings_signed",
    "fleet": "hot-anvil fleet $FLEET; hot-anvil pick tide-gauge --snippet clamp --on $FLEET",
    "chip": "hot-anvil hotspots chip avr-gcc:lean --entry sum_fold; hot-anvil measure chip "
    "--snippet sum; hot-anvil pins chip/clock.c --pin PB0 --build 'avr-gcc -Os -mmcu=atmega328p'",
    "diff": "hot-anvil diff tide-gauge gcc:lean gcc:fast --entry crossings_mixed",
    "ledger": "hot-anvil ledger tide-gauge gcc:plain gcc:lean gcc:fast clang:fast --snippet clamp",
    "facts": "hot-anvil facts tide-gauge gcc:plain gcc:fast clang:wide --entry clamp_select; "
    "hot-anvil facts tide-gauge/pause.c --build 'avr-gcc -O0' --build 'avr-gcc -Os' "
    "--entry pause_gauge",
    "check": "hot-anvil check tide-gauge --snippet checksum --snippet log",
    "step": "hot-anvil step tide-gauge gcc:lean --entry crossings_signed --passes 1 --limit 12; "
    "hot-anvil step tide-gauge crossings_signed@gcc:plain crossings_mixed@gcc:plain --limit 6",
    "stages": "hot-anvil remarks tide-gauge gcc:fast clang:fast --snippet crossings --lines 8; "
    "hot-anvil stages between gcc:fast --entry week --follow allocation; "
    "hot-anvil calls between gcc:easy gcc:fast --snippet objects; "
    "hot-anvil image tide-gauge gcc:fast --snippet crossings",
    "watch": "(sleep 6; sed -i 's/int32_t i = 1/long i = 1/' tide-gauge/crossings.c; sleep 3; "
    "sed -i 's/count++/count+/' tide-gauge/crossings.c) & "
    "hot-anvil watch tide-gauge gcc:lean gcc:fast clang:fast --snippet crossings "
    "--entry crossings_signed --saves 2",
    "kernels": "hot-anvil launch gpu year_clamp@nvcc:plain --scheduler spread --scheduler packed "
    "--processors 3; "
    "hot-anvil step gpu year_mean@nvcc:plain --warp 1 --at 18 --limit 4",
    "measure": "hot-anvil measure tide-gauge --snippet crossings --count",
    "hotspots": "hot-anvil hotspots tide-gauge gcc:lean --entry crossings_signed; "
    "hot-anvil hotspots tide-gauge gcc:lean clang:lean --entry clamp_branch",
    "history": "hot-anvil measure tide-gauge --snippet crossings --build 'gcc -O2' "
    "--build 'clang -O2' --earlier; hot-anvil history tide-gauge 'crossings_signed@gcc-12 -O2'",
    "pick": "hot-anvil pick tide-gauge --snippet checksum",
    "whatif": "hot-anvil narrow tide-gauge gcc:plain gcc:fast --entry crossings_signed; "
    "hot-anvil whatif tide-gauge clamp_branch@gcc:fast --seconds 12",
}


# The page: what makes it, and the line that is opened.
REPORT = (
    "hot-anvil pick tide-gauge --snippet crossings; hot-anvil hotspots tide-gauge gcc:fast "
    "clang:fast --entry crossings_signed; hot-anvil report tide-gauge gcc:plain gcc:fast "
    "clang:fast --snippet crossings --out page.html",
    "crossings-crossings.c-9",
)
# Figures that are tiled to one picture, each by the command that draws it.
FIGURES = (
    "hot-anvil pick tide-gauge/clamp.c --entry clamp_branch --entry clamp_select "
    "--build 'gcc -O2' --build 'gcc -O3' --build 'clang -O2' --build 'clang -O3' "
    '--inputs \'levels = {fill = "uniform(-500, 500)", count = "n"}\' '
    "--inputs 'kept = {fill = \"zeros\", count = \"n\"}' --inputs 'low = -200' "
    "--inputs 'high = 200' --inputs 'n = \"n\"' --sweep 'n = [4, 16, 64, 512, 4096]' "
    "--plot 1.png",
    "hot-anvil show tide-gauge/clamp.c --plot 2.png --draw growth",
    "hot-anvil show tide-gauge/clamp.c --plot 3.png --draw costs",
    "hot-anvil ledger tide-gauge --snippet crossings --plot 4.png",
)

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
    wanted = sys.argv[1:] or [*SCENES, "report", "plots"]
    OUT.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
    try:
        time.sleep(1)
        for name in wanted:
            with tempfile.TemporaryDirectory() as folder:  # its own: some scenes edit the bench
                demo = ROOT / "src" / "hot_anvil" / "data" / "demo"
                shutil.copytree(demo, Path(folder, "tide-gauge"))
                for name_of in ("between", "chip", "gpu"):
                    shutil.copytree(demo.with_name(name_of), Path(folder, name_of))
                own = {"report": take_page, "plots": take_figures, "fleet": take_fleet}.get(name)
                own(Path(folder)) if own else take(name, Path(folder))
                print(f"docs/screenshots/{name}.png")
    finally:
        screen.terminate()
        screen.wait()
    return 0


def take_page(folder: Path) -> None:
    """Photograph the page at its top and at the opened line, one under the other."""
    from selenium import webdriver

    command, line = REPORT
    _run(command, folder)
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for word in (
        "--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars",
        "--disable-background-networking", f"--user-data-dir={folder / 'profile'}",
    ):  # fmt: skip
        options.add_argument(word)
    browser = webdriver.Chrome(options=options, service=webdriver.ChromeService(
        "/usr/bin/chromedriver"))  # fmt: skip
    try:
        browser.set_window_size(1280, 700)
        for number, fragment in enumerate(("", f"#{line}")):
            browser.get("about:blank")
            browser.get((folder / "page.html").as_uri() + fragment)
            time.sleep(1)
            browser.save_screenshot(str(folder / f"{number}.png"))
    finally:
        browser.quit()
    shots = [str(folder / "0.png"), str(folder / "1.png")]
    subprocess.run(["convert", *shots, "-append", "-colors", "128", "-strip",
                    str(OUT / "report.png")], check=True)  # fmt: skip


def take_figures(folder: Path) -> None:
    """Draw the figures and tile them."""
    for command in FIGURES:
        _run(command, folder)
    shots = [str(folder / f"{number}.png") for number in range(1, len(FIGURES) + 1)]
    subprocess.run(["montage", *shots, "-tile", "2x2", "-geometry", "900x562+6+6", "-strip",
                    "-colors", "128", str(OUT / "plots.png")], check=True)  # fmt: skip


def _run(command: str, folder: Path) -> None:
    path = f"{BIN}:{os.environ['PATH']}"
    subprocess.run(command, shell=True, cwd=folder, env={**os.environ, "PATH": path},
                   stdout=subprocess.DEVNULL, check=True)  # fmt: skip


def take_fleet(folder: Path) -> None:
    """Show the scene of a fleet: four workers here, two of which pretend to be older machines."""
    sys.path.insert(0, str(ROOT / "tests"))
    from made_fleet import MadeFleet  # the tests' own

    fleet = MadeFleet(folder, networks=False)
    lacks = "avx512f avx512dq avx512bw avx512vl avx512cd"
    try:
        for name, pretends in (("quay1", ""), ("quay2", ""), ("pier1", f"Pier 9:{lacks}"),
                               ("pier2", f"Pier 9:{lacks}")):  # fmt: skip
            fleet.worker(name, pretends)
        fleet.wait(4)
        os.environ["FLEET"] = fleet.address
        take("fleet", folder)
    finally:
        fleet.close()


def take(name: str, folder: Path) -> None:
    """Show one scene in a terminal and photograph it."""
    done = folder / f"{name}.done"
    path = f"{BIN}:{os.environ['PATH']}"
    if name in BEFORE:
        _run(BEFORE[name], folder)
    typed = SCENES[name].replace("$FLEET", os.environ.get("FLEET", ""))
    rows, points = SIZES.get(name, (ROWS, POINTS))
    script = (
        f"clear; printf '$ %s\\n\\n' {shlex.quote(typed)}; {typed}; touch {done.name}; sleep 60"
    )
    env = {**os.environ, "DISPLAY": DISPLAY, "PATH": path, "HOT_ANVIL_PAGER": ""}
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
