"""Files written whole or not at all, and their digests."""

import hashlib
import json
import os
from contextlib import suppress
from functools import cache
from pathlib import Path
from threading import get_ident
from typing import Any

from hot_anvil.core.codec import as_plain
from hot_anvil.errors import AnvilError, cannot


def digest(*parts: bytes | str) -> str:
    """Return a digest (hex, 40 characters) of the parts, each kept apart."""
    state = hashlib.blake2b(digest_size=20)
    for part in parts:
        data = part.encode(errors="surrogateescape") if isinstance(part, str) else part
        state.update(len(data).to_bytes(8, "little"))
        state.update(data)
    return state.hexdigest()


def digest_file(path: str | Path) -> str | None:
    """Return the digest of a file's bytes, None when it cannot be read."""
    try:
        return digest(Path(path).read_bytes())
    except OSError:
        return None


def write_whole(path: Path, data: bytes | str) -> None:
    """Write a file so that others see all of it or nothing."""
    raw = data.encode(errors="surrogateescape") if isinstance(data, str) else data
    # Other processes, and threads of this one, may be writing the same.
    temporary = path.with_name(f".{path.name}.{os.getpid()}.{get_ident()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary.write_bytes(raw)
        temporary.replace(path)
    except OSError as error:
        with suppress(OSError):
            temporary.unlink(missing_ok=True)
        raise cannot(f"{path}: cannot be written", error) from None


def read_json(path: Path) -> Any:
    """Return what a JSON file of ours holds, None when missing or damaged."""
    try:
        return json.loads(path.read_bytes())
    except (OSError, ValueError):
        return None


def write_json(path: Path, value: Any) -> None:
    """Write plain data as a JSON file, whole or not at all."""
    write_whole(path, json.dumps(value, separators=(",", ":"), default=as_plain))


def read_source(path: str | Path) -> str:
    """Return the text of a source file; bytes that are not UTF-8 are kept as they are."""
    return Path(path).read_bytes().decode(errors="replace")


def parse_toml(text: str) -> dict[str, Any]:
    """Return the tables of a TOML text; raises ValueError with the place of a mistake.

    A text parsed before is read back from the user's cache: loading the
    parser would be a good part of a warm start.
    """
    kept = user_cache() / "toml" / f"{digest(text)}.json"
    known = read_json(kept)
    if isinstance(known, dict):
        return known
    import tomllib

    tables = tomllib.loads(text)
    try:
        write_json(kept, tables)
    except (AnvilError, TypeError):  # a cache that cannot be written, a date in the text
        return tables
    return tables


@cache
def user_cache() -> Path:
    """Return the folder for caches that belong to no bench."""
    import platformdirs

    return Path(platformdirs.user_cache_dir("hot-anvil"))
