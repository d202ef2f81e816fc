"""Commands that stand for one of several compilers: what decides which, at this moment."""

import os
from pathlib import Path

from hot_anvil.core.toolchain.records import Front
from hot_anvil.system.store.files import digest


def front_state(front: Front | None, root: str) -> str:
    """Return a text that changes whenever a front may stand for another compiler in ``root``."""
    if front is None:
        return ""
    said = [f"{name}={os.environ.get(name, '')}" for name in front.variables]
    folder = Path(root).absolute()
    chosen = (place / name for place in (folder, *folder.parents) for name in front.beside)
    files = [Path(file).expanduser() for file in front.files]
    files += [next((file for file in chosen if file.is_file()), Path())]
    for file in files:
        try:
            said.append(f"{file} {file.read_bytes()!r}" if file.is_file() else "")
        except OSError:
            said.append(f"{file} unreadable")
    return digest(*said)


def real_compiler(front: Front | None, path: str, root: str) -> list[str]:
    """Return the file of the compiler that a front stands for in ``root``, none where not known."""
    if front is None or not front.asks:
        return []
    from hot_anvil.system.process.running import run

    said = run([path, *front.asks], cwd=root, seconds=20)
    real = Path(said.stdout.strip(), front.real) if not said.failed else Path()
    return [str(real)] if real.is_file() else []
