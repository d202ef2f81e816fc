"""Shared fixtures: the installed command, the machine's compilers, the demo bench."""

import atexit
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.system.toolchain.finding import find_toolchains

# The tests' caches and settings are apart from the person's, from before anything asks for them.
os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="hot-anvil-tests-")
os.environ["XDG_CONFIG_HOME"] = os.environ["XDG_CACHE_HOME"] + "/settings"
atexit.register(shutil.rmtree, os.environ["XDG_CACHE_HOME"], ignore_errors=True)
os.environ["PAGER"] = "cat"  # where a test makes a terminal, nobody turns pages
for name in ("COLUMNS", "NO_COLOR", "HOT_ANVIL_PAGER"):
    os.environ.pop(name, None)
settings.register_profile("quay", deadline=None)  # no test asserts an absolute time
settings.load_profile("quay")

COMMAND = Path(sys.executable).parent / "hot-anvil"
ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src" / "hot_anvil" / "data" / "demo"
CORPUS = ROOT / "tests" / "corpus"
SOURCES = ROOT / "tests" / "sources"
NEED_ALL = bool(os.environ.get("HOT_ANVIL_TESTS_NEED_ALL"))

Answer = subprocess.CompletedProcess[str]


def lacking(what: str) -> None:
    """Skip the test for a missing tool, or fail it where everything must be there."""
    if NEED_ALL:
        pytest.fail(f"{what} is missing, and every tool must be here")
    pytest.skip(f"{what} is missing")


@pytest.fixture
def need() -> Callable[..., None]:
    """Return a function that skips the test unless all these programs are here."""

    def check(*programs: str) -> None:
        for program in programs:
            if not shutil.which(program):
                lacking(program)

    return check


@pytest.fixture(scope="session")
def toolchains() -> tuple[Toolchain, ...]:
    """The C toolchains of this machine that run natively."""
    native = (chain for chain in find_toolchains().toolchains if chain.can["run"])
    found = tuple(chain for chain in native if "c" in chain.drivers)
    if NEED_ALL and {chain.family for chain in found} != {"gcc", "clang"}:
        lacking("gcc or clang")
    return found


@pytest.fixture(scope="session")
def families() -> dict[str, Family]:
    """The compiler families by name."""
    return {family.name: family for family in find_toolchains().families}


def hot_anvil(*words: str | Path, cwd: Path | None = None, **env: str) -> Answer:
    """Run the installed command as a person would, with its output captured."""
    return subprocess.run(
        [COMMAND, *map(str, words)],
        cwd=cwd,
        env={**os.environ, **env},
        capture_output=True,
        text=True,
        timeout=900,
        check=False,
    )


def document(*words: str | Path, code: int = 0) -> Any:
    """Run the command with ``--format json`` and return its document."""
    answer = hot_anvil(*words, "--format", "json")
    assert answer.returncode == code, answer.stderr
    return json.loads(answer.stdout)


def refused(*words: str | Path, code: int = 2, path: str = "") -> str:
    """Run the command, expect one plain paragraph of error, and return it."""
    answer = hot_anvil(*words, PATH=path or os.environ["PATH"])
    assert answer.returncode == code, (answer.stdout, answer.stderr)
    assert "Traceback" not in answer.stderr
    assert answer.stderr.startswith("hot-anvil: ")
    return answer.stderr


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the demo bench with gcc only; tests must not change it."""
    folder = tmp_path_factory.mktemp("demo") / "tide gauge"
    shutil.copytree(DEMO, folder)
    bench = folder / "anvil.toml"
    bench.write_text(bench.read_text().replace('["gcc", "clang"]', '["gcc"]'))
    return folder


def write_bench(folder: Path, text: str, **sources: str) -> Path:
    """Write an ``anvil.toml`` and sources (``name`` -> C text) and return the folder."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "anvil.toml").write_text(text)
    for name, source in sources.items():
        (folder / f"{name}.c").write_text(source)
    return folder
