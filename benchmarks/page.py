"""The page of a large bench: how big it is, and how long a browser takes to open it.

    python benchmarks/page.py [BUILDS [LINES]]

Lays out a bench of so many builds (40) of a source of so many lines (3,000), makes its page and
opens it in headless Chromium, cold and again. Exits 1 where the page is over 15 MB or takes more
than 2 s to open: the limits that people were promised.
"""

import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HOT_ANVIL = Path(sys.executable).parent / "hot-anvil"
MOST_BYTES, MOST_SECONDS = 15e6, 2.0
FLAGS = (
    "-O0", "-O1", "-O2", "-O3", "-Os", "-Og", "-O2 -march=native", "-O3 -march=native",
    "-O3 -funroll-loops", "-O2 -fno-tree-vectorize", "-O1 -ftree-vectorize", "-O3 -ffast-math",
    "-O3 -fno-inline", "-O2 -fwrapv", "-O2 -fno-strict-aliasing", "-O3 -mavx2", "-O3 -msse4.2",
    "-O3 -mno-avx", "-O2 -fno-unroll-loops", "-O1 -march=native",
)  # fmt: skip
MONTH = """
/* the highest tide of month {0}, in millimetres above the mark */
int32_t month_{0}(const int16_t *levels, int32_t n)
{{
    int32_t best = -{0};
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) {{
        if (levels[i] > best)
            best = levels[i];
        sum += levels[i] * {0};
    }}
    if (sum > {0})
        best += {0};
    return best + sum % ({0} + 2);
}}
"""


def lay_out(folder: Path, builds: int, lines: int) -> None:
    """Write the bench."""
    half = FLAGS[: builds // 2]
    sets = "\n".join(f'set_{k:02} = "{flags}"' for k, flags in enumerate(half))
    names = ", ".join(f'"set_{k:02}"' for k in range(len(half)))
    (folder / "anvil.toml").write_text(
        f'[flags]\n{sets}\n[grid]\ntoolchains = ["gcc", "clang"]\nflags = [{names}]\n'
        '[[snippet]]\nname = "tables"\nsources = ["tables.c"]\n'
    )
    text = "#include <stdint.h>\n"
    for month in range(1, lines):
        text += MONTH.format(month)
        if text.count("\n") >= lines:
            break
    (folder / "tables.c").write_text(text)


def opening(page: Path, folder: Path) -> float:
    """Return the seconds until a browser has loaded a page and all that it shows."""
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for word in ("--headless=new", "--no-sandbox", "--disable-gpu", "--window-size=1280,800",
                 "--disable-background-networking", f"--user-data-dir={folder}"):  # fmt: skip
        options.add_argument(word)
    driver = webdriver.ChromeService(shutil.which("chromedriver") or "")
    browser = webdriver.Chrome(options=options, service=driver)
    try:
        browser.get(page.as_uri())
        return float(
            browser.execute_script(
                "return performance.getEntriesByType('navigation')[0].loadEventEnd / 1000"
            )
        )
    finally:
        browser.quit()


def main() -> int:
    """Make and open the page."""
    builds, lines = (int(word) for word in (*sys.argv[1:], "40", "3000")[:2])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lay_out(folder, builds, lines)
        subprocess.run([HOT_ANVIL, "compile", folder], check=True, stdout=subprocess.DEVNULL)
        page = folder / "page.html"
        start = time.monotonic()
        subprocess.run([HOT_ANVIL, "report", folder, "--out", page], check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        made = time.monotonic() - start
        size = page.stat().st_size
        times = [opening(page, folder / f"profile{k}") for k in range(3)]
    typical = statistics.median(times)
    each = ", ".join(f"{seconds:.2f}" for seconds in times)
    print(
        f"{builds} builds, {lines} lines: page of {size / 1e6:.1f} MB, made in {made:.1f} s, "
        f"opened in {typical:.2f} s (median of {each})"
    )
    return int(size > MOST_BYTES or typical > MOST_SECONDS)


if __name__ == "__main__":
    sys.exit(main())
