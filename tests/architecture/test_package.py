"""The wheel as a stranger gets it: what it holds, that it runs, that its types are seen."""

import os
import subprocess
import sys
import sysconfig
from collections.abc import Iterator
from pathlib import Path
from zipfile import ZipFile

import pytest

from conftest import ROOT

SCRIPT = """import hot_anvil

anvil = hot_anvil.open_source("surge.c", ["gcc -O2"])
for built in anvil.compile():
    size: int | None = built.code_bytes
    state: str = built.build.nmae
(picked,) = anvil.pick(options=hot_anvil.Options(seconds="long"))
reveal_type(picked.pick.choice)
"""


def run(*words: object, cwd: Path) -> subprocess.CompletedProcess[str]:
    env = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}
    return subprocess.run(
        list(map(str, words)), cwd=cwd, env=env, capture_output=True, text=True, check=False
    )


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A fresh environment with the wheel in it, and the libraries that the tests have too."""
    folder = tmp_path_factory.mktemp("wheel")
    build = [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--no-build-isolation"]
    made = run(*build, "--wheel-dir", folder, ROOT, cwd=folder)
    assert made.returncode == 0, made.stderr
    run(sys.executable, "-m", "venv", "--without-pip", folder / "own", cwd=folder)
    (site,) = (folder / "own" / "lib").glob("python3*/site-packages")
    (wheel,) = folder.glob("hot_anvil-*.whl")
    put = [sys.executable, "-m", "pip", "--quiet", "--python", folder / "own" / "bin" / "python"]
    done = run(*put, "install", "--no-deps", "--no-index", wheel, cwd=folder)
    assert done.returncode == 0, done.stderr
    (site / "libraries.pth").write_text(sysconfig.get_path("purelib") + "\n")
    yield folder


def test_the_wheel_holds_all_that_the_package_has(installed: Path) -> None:
    (wheel,) = installed.glob("hot_anvil-*.whl")
    names = set(ZipFile(wheel).namelist())
    source = ROOT / "src"
    ours = {
        str(path.relative_to(source))
        for path in (source / "hot_anvil").rglob("*")
        if path.is_file() and path.suffix != ".pyc" and ".hot-anvil" not in path.parts
    }
    assert ours <= names and "hot_anvil/py.typed" in ours
    for name in ("man/man1/hot-anvil.1", "bash-completion/completions/hot-anvil"):
        assert (installed / "own" / "share" / name).read_text() == (
            ROOT / "share" / name
        ).read_text()


def test_the_command_works_outside_the_checkout(installed: Path) -> None:
    tool = installed / "own" / "bin" / "hot-anvil"
    where = "import hot_anvil; print(hot_anvil.__file__)"
    said = run(installed / "own" / "bin" / "python", "-c", where, cwd=installed)
    assert said.stdout.startswith(str(installed))
    assert run(tool, "explain", "lea", cwd=installed).stdout.count("lea") > 1
    laid = run(tool, "start", "--example", "pitfalls", cwd=installed)
    assert laid.returncode == 0, laid.stderr
    (installed / "surge.c").write_text("int surge(int n) { return n * 9; }\n")
    listed = run(tool, "listing", "surge.c", "--build", "gcc -O2", cwd=installed)
    assert "lea" in listed.stdout, listed.stderr
    checked = run(tool, "check", "surge.c", "--build", "gcc -O2", "--inputs", "n = 4",
                  cwd=installed)  # fmt: skip
    assert checked.returncode == 0, checked.stdout + checked.stderr


def test_a_users_script_is_checked_against_the_types(installed: Path) -> None:
    script = installed / "script.py"
    script.write_text(SCRIPT)
    python = installed / "own" / "bin" / "python"
    mypy = [sys.executable, "-m", "mypy", "--strict", "--python-executable", python]
    said = run(*mypy, "--cache-dir", installed / "types", script, cwd=installed).stdout
    assert '"Build" has no attribute "nmae"' in said
    assert '"seconds" to "Options" has incompatible type "str"; expected "float"' in said
    assert 'Revealed type is "str | None"' in said or "Union[builtins.str, None]" in said
    assert "Found 2 errors" in said, said
