"""Files that a bench names: inside its own folder, or named by the person."""

from pathlib import Path

from hot_anvil.core.config.records import Bench
from hot_anvil.errors import RequestError


def inside(bench: Bench, name: str, where: str) -> Path:
    """Return a file of a bench. Raises RequestError for one that lies elsewhere.

    What a person names on the command line may lie anywhere. Links are followed first.
    """
    path = Path(bench.root, name)
    if name in bench.granted:
        return path
    root = Path(bench.root).resolve()
    try:
        real = path.resolve()
    except (OSError, RuntimeError):  # a circle of links
        real = Path("/")
    if root != real and root not in real.parents:
        raise RequestError(
            f"{where}: {name} lies outside {bench.root}, and a bench reads only what is in its "
            "folder. Copy it there, or name it on the command line."
        )
    return path
