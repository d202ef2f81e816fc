"""Proof that what was kept is still what was kept: digests of every file."""

import json
import os
from pathlib import Path
from typing import Any

from hot_anvil.core.codec import as_plain
from hot_anvil.system.store.files import digest, digest_file, read_json, write_json, write_whole

SEAL = "seal.json"


def seal(folder: Path) -> None:
    """Write down the digests of a folder's files."""
    names = sorted(entry.name for entry in os.scandir(folder) if entry.name != SEAL)
    write_json(folder / SEAL, {name: digest_file(folder / name) for name in names})


def holds(folder: Path) -> bool:
    """Tell whether a folder holds what was sealed; what is behind a link is not ours."""
    known = read_json(folder / SEAL)
    if not isinstance(known, dict) or folder.is_symlink():
        return False
    return all(
        not (folder / name).is_symlink() and digest_file(folder / name) == kept
        for name, kept in known.items()
    )


def write_sealed(path: Path, value: Any) -> None:
    """Write plain data as JSON below its own digest, whole or not at all."""
    body = json.dumps(value, separators=(",", ":"), default=as_plain)
    write_whole(path, f"{digest(body)}\n{body}")


def read_sealed(path: Path) -> Any:
    """Return what ``write_sealed`` wrote, None when it is missing or damaged."""
    try:
        own, _, body = path.read_bytes().partition(b"\n")
        return json.loads(body) if digest(body) == own.decode() else None
    except (OSError, ValueError):
        return None
