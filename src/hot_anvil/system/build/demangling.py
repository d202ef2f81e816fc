"""Names as the source writes them, for symbols."""

import re
import shutil
from collections.abc import Iterable
from pathlib import Path

from hot_anvil.system.process.running import run
from hot_anvil.system.store.store import Store

_MANGLED = ("_Z", "_R")


def titles_of(symbols: Iterable[str], store: Store) -> dict[str, str]:
    """Return symbol -> name as the source writes it, for those that stand for another name."""
    mangled = [symbol for symbol in symbols if symbol.startswith(_MANGLED)]
    if not mangled:
        return {}
    with store.workplace() as work:
        return demangled(mangled, work)


def demangled(symbols: Iterable[str], work: Path) -> dict[str, str]:
    """Return symbol -> name as the source writes it, as far as c++filt knows them.

    Others than those that C++ and Rust make are left out.
    """
    names = [symbol for symbol in dict.fromkeys(symbols) if symbol.startswith(_MANGLED)]
    if not names or not shutil.which("c++filt"):
        return {}
    said = run(["c++filt", "--", *names], work) if len(names) < 500 else None
    if said is None:
        (work / "symbols").write_text("\n".join(names) + "\n")
        said = run(["sh", "-c", "exec c++filt < symbols"], work)
        (work / "symbols").unlink()
    titles = said.stdout.split("\n")[: len(names)]
    if said.failed or len(titles) != len(names):
        return {}
    plain = [re.sub(r"\[[0-9a-f]{16}\]", "", title) for title in titles]  # Rust's crate hashes
    return {name: title for name, title in zip(names, plain, strict=True) if name != title}
