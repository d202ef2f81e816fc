"""Libraries by their pkg-config names: the flags they need."""

import os
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from hot_anvil.core.config.records import Snippet

MISSING = "-hot-anvil-missing-package="  # stands for a package that is not here


def package_flags(snippet: Snippet) -> tuple[str, ...]:
    """Return the compiler flags of a snippet's packages; a mark for each missing one."""
    return _flags(snippet.packages, "--cflags")


def package_libraries(snippet: Snippet) -> tuple[str, ...]:
    """Return the linker flags of a snippet's packages."""
    return tuple(f for f in _flags(snippet.packages, "--libs") if not f.startswith(MISSING))


def missing_package(flags: Sequence[str]) -> str:
    """Return why a job with these flags cannot be done for want of a package, or ""."""
    for flag in flags:
        if flag.startswith(MISSING):
            name = flag.removeprefix(MISSING)
            from shutil import which

            if not which("pkg-config"):
                return f"package {name}: pkg-config is missing (on Debian: apt install pkg-config)"
            return (
                f"package {name}: pkg-config does not know it; install the library's development "
                f"package (on Debian: apt-file search {name}.pc), or set PKG_CONFIG_PATH"
            )
    return ""


def _flags(names: tuple[str, ...], what: str) -> tuple[str, ...]:
    return tuple(flag for name in names for flag in _ask(name, what, _search_path()))


def _search_path() -> str:
    return os.environ.get("PKG_CONFIG_PATH", "")


@cache
def _ask(name: str, what: str, _path: str) -> tuple[str, ...]:
    import shlex
    from shutil import which

    from hot_anvil.system.process.running import run

    tool = which("pkg-config")
    if not tool or name.startswith("-"):
        return (f"{MISSING}{name}",)
    said = run([tool, what, name], cwd=Path("/"), seconds=20)
    return (f"{MISSING}{name}",) if said.failed else tuple(shlex.split(said.stdout))
