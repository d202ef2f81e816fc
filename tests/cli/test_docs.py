"""The documents tell the truth: their examples run, their links lead somewhere, shells complete."""

import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
import shell_files

from conftest import COMMAND, ROOT
from hot_anvil.cli.main import COMMANDS
from made_fleet import MadeFleet

PAGES = ROOT / "docs" / "commands"
# What these quote differs from run to run: words are compared, not lines.
_OF_THE_MOMENT = {"measure", "pick", "hotspots", "history", "whatif", "fleet"}
_ADDRESS = "tcp://10.0.0.1:8786"  # of the fleet in the examples
# In this order each finds what it shows again.
_ORDER = ["pick", *(name for name in COMMANDS if name not in ("pick", "import")), "import"]


@pytest.fixture(scope="module")
def there(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("docs")
    for name in ("demo", "between", "gpu", "chip"):
        goal = {"demo": "tide-gauge", "between": name}.get(name, f"tide-gauge/{name}")
        shutil.copytree(ROOT / "src" / "hot_anvil" / "data" / name, folder / goal)
    return folder


@pytest.fixture(scope="module")
def fleet(tmp_path_factory: pytest.TempPathFactory) -> Iterator[MadeFleet]:
    """The fleet of the examples."""
    made = MadeFleet(tmp_path_factory.mktemp("fleet"), networks=False)
    for name, pretends in (("quay1", ""), ("quay2", ""), ("pier1", "Pier 9"), ("pier2", "Pier 9")):
        made.worker(name, pretends)
    made.wait(4)
    yield made
    made.close()


def plain(text: str) -> str:
    """Return a text without what differs from run to run: numbers, units of time, blanks."""
    text = re.sub(r"[~±]?\d[\d,.]*x?|\b(ns|us|ms)\b", "#", text)
    return re.sub(r"[\s#]+", " ", text).strip()


def test_every_command_has_a_page_whose_example_runs(there: Path, fleet: MadeFleet) -> None:
    assert {page.stem for page in PAGES.glob("*.md")} == {*COMMANDS, "index"}
    for name in _ORDER:
        text = (PAGES / f"{name}.md").read_text()
        for block in re.findall(r"```console\n(.*?)```", text, re.DOTALL):
            first, *quoted = block.rstrip("\n").split("\n")
            done = subprocess.run(
                first.removeprefix("$ ").replace(_ADDRESS, fleet.address),
                shell=True, cwd=there, capture_output=True, text=True, check=False,
                env={**os.environ, "PATH": f"{COMMAND.parent}:{os.environ['PATH']}",
                     "COLUMNS": "100"},
            )  # fmt: skip
            # That rivals disagree is the answer of two of them.
            assert done.returncode == (name in ("check", "step")), (first, done.stderr)
            lines = {plain(line) for line in done.stdout.split("\n")}
            words = set(plain(done.stdout).split())
            for line in quoted:
                if line == "...":
                    continue
                if name in _OF_THE_MOMENT:
                    said = {word for word in plain(line).split() if word.isalpha()}
                    assert said <= words | {"faster", "slower", "tied"}, (name, line)
                else:
                    assert plain(line) in lines, (name, line)


def test_the_site_is_built_without_a_warning_and_without_a_network(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "sphinx", "-q", "-W", "--keep-going", "-E", ROOT / "docs", tmp_path],
        capture_output=True, text=True, check=False, cwd=tmp_path,
        env={**os.environ, "http_proxy": "http://127.0.0.1:9", "https_proxy": "http://127.0.0.1:9"},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "crossings_signed" in (tmp_path / "commands" / "diff.html").read_text()
    for page in tmp_path.rglob("*.html"):
        fetched = re.findall(
            r'(?:src|href)="(https?://[^"]+\.(?:js|css|woff2?))"', page.read_text()
        )
        assert fetched == [], page


def test_completions_and_man_page_are_those_of_the_parsers() -> None:
    for name, text in shell_files.files().items():
        assert (ROOT / "share" / name).read_text() == text, "run python tools/shell_files.py"


@pytest.mark.parametrize(("words", "wanted"), [
    (["led"], "ledger"), (["pick", "--fail"], "--fail-if-slower-than"),
    (["show", "--format", "s"], "sarif"),
])  # fmt: skip
def test_bash_completes(words: list[str], wanted: str) -> None:
    script = ROOT / "share" / "bash-completion" / "completions" / "hot-anvil"
    line = " ".join(f"'{word}'" for word in ["hot-anvil", *words])
    typed = (
        f"source {script}; COMP_WORDS=({line}); COMP_CWORD={len(words)}; "
        "$(complete -p hot-anvil | sed 's/.*-F \\([^ ]*\\).*/\\1/'); echo ${COMPREPLY[@]}"
    )
    done = subprocess.run(["bash", "-c", typed], capture_output=True, text=True, check=False)
    assert wanted in done.stdout.split(), done.stderr


def test_the_man_page_names_every_command() -> None:
    text = (ROOT / "share" / "man" / "man1" / "hot-anvil.1").read_text()
    for name in COMMANDS:
        assert f"hot\\-anvil {name}" in text or f"\\,{name}\\/" in text
    assert text.startswith(".TH HOT")
